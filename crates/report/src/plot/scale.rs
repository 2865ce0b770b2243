//! From values to places on a drawing.

/// A scale from values to places.
#[derive(Debug, Clone, Copy)]
pub struct Scale {
    values: (f64, f64),
    places: (f64, f64),
    is_log: bool,
}

impl Scale {
    /// A scale on which equal differences are equally far apart.
    pub fn linear(values: (f64, f64), places: (f64, f64)) -> Self {
        Self { values, places, is_log: false }
    }

    /// A scale on which equal ratios are equally far apart; all values are above 0.
    pub fn log(values: (f64, f64), places: (f64, f64)) -> Self {
        Self { values, places, is_log: true }
    }

    /// The place of a value.
    pub fn at(self, value: f64) -> f64 {
        let of = |it: f64| if self.is_log { it.max(f64::MIN_POSITIVE).ln() } else { it };
        let (low, high) = (of(self.values.0), of(self.values.1));
        let share = if high > low { (of(value) - low) / (high - low) } else { 0.5 };
        self.places.0 + share * (self.places.1 - self.places.0)
    }

    /// Values for marks: powers of ten with 2 and 5 times them where that is few, on a scale of ratios.
    pub fn log_marks(self) -> Vec<f64> {
        let (low, high) =
            (self.values.0.log10().floor() as i32, self.values.1.log10().ceil() as i32);
        let within = |it: &f64| *it >= self.values.0 * 0.999 && *it <= self.values.1 * 1.001;
        let marks = |steps: &[f64]| -> Vec<f64> {
            let all =
                (low..=high).flat_map(|power| steps.iter().map(move |it| it * 10_f64.powi(power)));
            all.filter(within).collect()
        };
        let few = marks(&[1.0]);
        if few.len() >= 3 { few } else { marks(&[1.0, 2.0, 5.0]) }
    }
}

/// Places of labels, moved apart so that no two are closer than `gap`; each stays as near as it can, in its order.
pub fn apart(places: &[f64], gap: f64, bounds: (f64, f64)) -> Vec<f64> {
    let mut order: Vec<usize> = (0..places.len()).collect();
    order.sort_by(|&a, &b| places[a].total_cmp(&places[b]));
    let mut moved: Vec<f64> = order.iter().map(|&it| places[it]).collect();
    for _ in 0..200 {
        let mut is_still = true;
        for at in 1..moved.len() {
            let lack = gap - (moved[at] - moved[at - 1]);
            if lack > 0.01 {
                moved[at - 1] -= lack / 2.0;
                moved[at] += lack / 2.0;
                is_still = false;
            }
        }
        for place in &mut moved {
            *place = place.clamp(bounds.0, bounds.1);
        }
        if is_still {
            break;
        }
    }
    let mut found = vec![0.0; places.len()];
    for (&place, at) in order.iter().zip(moved) {
        found[place] = at;
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ratios_are_equally_far_apart_and_have_round_marks() {
        let scale = Scale::log((0.001, 0.1), (0.0, 100.0));
        assert!((scale.at(0.01) - 50.0).abs() < 1e-9);
        let marks = scale.log_marks();
        assert_eq!(marks.len(), 3);
        assert_eq!(Scale::log((0.003, 0.03), (0.0, 1.0)).log_marks().len(), 3);
    }

    #[test]
    fn labels_are_moved_apart() {
        let found = apart(&[10.0, 11.0, 50.0], 10.0, (0.0, 100.0));
        assert!(found[1] - found[0] >= 9.9 && (found[2] - 50.0).abs() < 1.0, "{found:?}");
    }
}
