//! What more costs: who is worth its price, or its time.

/// One candidate, by what it takes and what it gives.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Offer {
    /// The place of the candidate in whatever list it is from.
    pub place: usize,
    /// Money or seconds for each trial.
    pub price: f64,
    /// Its solved rate, 0 to 1.
    pub rate: f64,
}

/// One step of the frontier.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FrontierStep {
    /// Who.
    pub offer: Offer,
    /// What each further percentage point costs, over the step before; `None` at the first.
    pub per_point: Option<f64>,
}

/// The offers that no other beats: nobody gives as much for less, or more for as much. The cheapest is first.
/// Of offers that are alike in both, all are on it.
#[must_use]
pub fn frontier(offers: &[Offer]) -> Vec<FrontierStep> {
    let mut sorted: Vec<Offer> =
        offers.iter().filter(|it| it.price.is_finite() && it.rate.is_finite()).copied().collect();
    sorted.sort_by(|a, b| a.price.total_cmp(&b.price).then(b.rate.total_cmp(&a.rate)));
    let mut steps: Vec<FrontierStep> = Vec::new();
    for offer in sorted {
        // The last step that is another point, for a step's price and to see whether this one is any better.
        let is_same =
            |it: &FrontierStep| it.offer.price == offer.price && it.offer.rate == offer.rate;
        let before = steps.iter().rev().find(|it| !is_same(it)).copied();
        if before.is_some_and(|it| it.offer.rate >= offer.rate) {
            continue;
        }
        let per_point = before
            .map(|it| (offer.price - it.offer.price) / ((offer.rate - it.offer.rate) * 100.0));
        steps.push(FrontierStep { offer, per_point });
    }
    steps
}

/// The best offer within a budget for each trial; of equals, the cheapest.
#[must_use]
pub fn best_within(offers: &[Offer], budget: f64) -> Option<Offer> {
    let within = offers.iter().filter(|it| it.price <= budget && it.rate.is_finite());
    within.copied().max_by(|a, b| a.rate.total_cmp(&b.rate).then(b.price.total_cmp(&a.price)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_nobody_beats_is_on_it_and_steps_have_their_price() {
        let all = [(0.10, 0.8), (0.01, 0.5), (0.05, 0.5), (0.04, 0.7), (0.20, 0.8), (0.04, 0.7)];
        let offers: Vec<Offer> = all
            .iter()
            .enumerate()
            .map(|(place, &(price, rate))| Offer { place, price, rate })
            .collect();
        let steps = frontier(&offers);
        let places: Vec<usize> = steps.iter().map(|it| it.offer.place).collect();
        assert_eq!(places, [1, 3, 5, 0]);
        assert_eq!(steps[0].per_point, None);
        for (step, expected) in steps[1..].iter().zip([0.0015, 0.0015, 0.006]) {
            assert!((step.per_point.unwrap() - expected).abs() < 1e-12, "{step:?}");
        }
        assert_eq!(best_within(&offers, 0.05).unwrap().place, 5);
        assert_eq!(best_within(&offers, 0.001), None);
    }
}
