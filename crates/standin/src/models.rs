//! What a simulated model is like.

use fairtrial_core::source::{SourceError, parse_toml};
use serde::Deserialize;

use crate::fault::Fault;

/// A simulated model.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Model {
    /// The name that requests ask for.
    pub name: String,
    /// A task of this difficulty is solved at the first try half of the time.
    pub skill: f64,
    /// How often a failed answer is put right when the failure is reported, from 0 to 1.
    pub repair: f64,
    /// How often an answer is exactly what was asked for, and nothing around it, from 0 to 1.
    #[serde(default = "always")]
    pub tidy: f64,
    /// How fast it writes.
    pub tokens_per_second: f64,
    /// Seconds before it begins to write.
    #[serde(default)]
    pub latency: f64,
    /// How often a request is not answered as it should be the first time, from 0 to 1.
    #[serde(default)]
    pub fault_rate: f64,
    /// What happens to it instead.
    #[serde(default)]
    pub fault: Fault,
    /// The HTTP status of such a refusal, where the fault is `status`.
    #[serde(default = "too_many")]
    pub fault_status: u16,
    /// How often such a request fares so before it is answered as it should be.
    #[serde(default = "once")]
    pub fault_repeats: u32,
}

const fn always() -> f64 {
    1.0
}

const fn too_many() -> u16 {
    429
}

const fn once() -> u32 {
    1
}

/// Why there are no models.
pub type ModelsError = SourceError;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Models {
    model: Vec<Model>,
}

/// Reads `[[model]]` tables.
///
/// # Errors
/// Bad TOML, an unknown key, a share that is not from 0 to 1.
pub fn parse_models(file: &str, text: &str) -> Result<Vec<Model>, ModelsError> {
    let models = parse_toml::<Models>(file, text)?.model;
    for model in &models {
        let shares = [model.repair, model.tidy, model.fault_rate];
        if shares.iter().any(|share| !(0.0..=1.0).contains(share)) {
            let message = format!("model `{}`: shares are from 0 to 1", model.name);
            return Err(SourceError::whole(file, message));
        }
        if !(model.tokens_per_second > 0.0 && (0.0..=60.0).contains(&model.latency)) {
            let message = format!(
                "model `{}`: `tokens_per_second` is above 0, `latency` from 0 to 60",
                model.name
            );
            return Err(SourceError::whole(file, message));
        }
    }
    Ok(models)
}

/// The models of the demo.
///
/// # Panics
/// Never: a test reads the shipped file.
#[must_use]
pub fn shipped_models() -> Vec<Model> {
    parse_models("models.toml", include_str!("models.toml"))
        .expect("the shipped models are well-formed")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shipped_models_differ_in_skill() {
        let models = shipped_models();
        assert_eq!(models.len(), 4);
        assert!(models.windows(2).all(|pair| pair[0].skill > pair[1].skill));
        assert!(
            parse_models("m", "[[model]]\nname='a'\nskill=1\nrepair=2\ntokens_per_second=1")
                .is_err()
        );
    }
}
