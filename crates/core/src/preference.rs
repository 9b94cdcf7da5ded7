//! Preferences between voices, from ratings of pairs: comparison category
//! rating (ITU-T P.800, annex E).

/// How much better or worse the second sounds than the first.
pub const SCORES: std::ops::RangeInclusive<i64> = -3..=3;

/// A rating of one pair.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PreferenceRating {
    /// Number of the voice that was heard first.
    pub first: i64,
    /// Number of the voice that was heard after it.
    pub second: i64,
    /// From -3, the second is much worse, to 3, it is much better.
    pub score: i64,
}

/// What ratings of a pair say in the mean.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Preference {
    /// Number of a voice.
    pub one: i64,
    /// Number of the other, higher.
    pub other: i64,
    /// Number of ratings.
    pub count: usize,
    /// Mean score of the other against the one: above 0, the other is preferred.
    pub mean: f64,
    /// Half the width of the confidence interval of 95 %; `None` below two ratings.
    pub interval: Option<f64>,
}

impl Preference {
    /// The voice that is preferred with a confidence of 95 %; `None` if neither is.
    pub fn preferred(&self) -> Option<i64> {
        let interval = self.interval?;
        match self.mean {
            mean if mean - interval > 0.0 => Some(self.other),
            mean if mean + interval < 0.0 => Some(self.one),
            _ => None,
        }
    }
}

/// Quantile 0.975 of Student's distribution, by degrees of freedom from 1.
const STUDENT: [f64; 30] = [
    12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262, 2.228, 2.201, 2.179, 2.160, 2.145, 2.131, 2.120,
    2.110, 2.101, 2.093, 2.086, 2.080, 2.074, 2.069, 2.064, 2.060, 2.056, 2.052, 2.048, 2.045, 2.042,
];
/// The same of many degrees of freedom.
const NORMAL: f64 = 1.960;

/// The preferences of all pairs that were rated, whichever was heard first.
pub fn preferences(ratings: &[PreferenceRating]) -> Vec<Preference> {
    let mut pairs = std::collections::BTreeMap::<(i64, i64), Vec<f64>>::new();
    for PreferenceRating { first, second, score } in ratings.iter().copied().filter(|it| it.first != it.second) {
        let (pair, score) = if first < second { ((first, second), score) } else { ((second, first), -score) };
        pairs.entry(pair).or_default().push(score as f64);
    }
    let preference = |((one, other), scores): ((i64, i64), Vec<f64>)| {
        let count = scores.len();
        let mean = scores.iter().sum::<f64>() / count as f64;
        let interval = (count > 1).then(|| {
            let squares: f64 = scores.iter().map(|score| (score - mean).powi(2)).sum();
            let deviation = (squares / (count - 1) as f64).sqrt();
            STUDENT.get(count - 2).copied().unwrap_or(NORMAL) * deviation / (count as f64).sqrt()
        });
        Preference { one, other, count, mean, interval }
    };
    pairs.into_iter().map(preference).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rated(first: i64, second: i64, score: i64) -> PreferenceRating {
        PreferenceRating { first, second, score }
    }

    #[test]
    fn the_order_of_hearing_does_not_change_who_is_preferred() {
        let found = preferences(&[rated(1, 2, 2), rated(2, 1, -2), rated(1, 2, 1), rated(2, 1, -1)]);
        assert_eq!((found.len(), found[0].one, found[0].other, found[0].count), (1, 1, 2, 4));
        assert!((found[0].mean - 1.5).abs() < 1e-9);
        // By hand: deviation 0.57735, times 3.182, over the root of 4.
        assert!((found[0].interval.expect("four ratings") - 0.91856).abs() < 1e-4, "{found:?}");
        assert_eq!(found[0].preferred(), Some(2));
    }

    #[test]
    fn few_or_contrary_ratings_prefer_nobody() {
        let one = preferences(&[rated(1, 2, 3)]);
        assert_eq!((one[0].interval, one[0].preferred()), (None, None));
        let contrary = preferences(&[rated(1, 2, 3), rated(1, 2, -3), rated(2, 1, 1)]);
        assert_eq!(contrary[0].preferred(), None);
        assert_eq!(preferences(&[rated(3, 3, 1)]), [], "a voice is not compared with itself");
        let same: Vec<_> = (0..40).map(|_| rated(2, 5, -1)).collect();
        let same = preferences(&same);
        assert_eq!((same[0].interval, same[0].preferred()), (Some(0.0), Some(2)));
    }
}
