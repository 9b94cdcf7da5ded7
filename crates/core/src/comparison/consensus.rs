//! One transcript out of those of several recognisers: words are laid beside
//! one another and vote, each with how sure its recogniser is (Fiscus 1997,
//! "A post-processing system to yield reduced word error rates: recognizer
//! output voting error reduction").

use crate::alignment::{Aligned, MOST_UNLIKE, align_by, unlikeness};
use crate::{Transcript, Word, normalise_words};

/// How much the number of votes counts beside their confidence, 0 to 1.
const BY_VOTES: f64 = 0.7;
/// How sure recognisers count as that have no word where others have one.
const SURE_OF_NOTHING: f64 = 0.55;
/// How sure a recogniser counts that does not say it.
const SURE_UNTOLD: f64 = 0.6;

/// A word of a consensus.
#[derive(Debug, Clone, PartialEq)]
pub struct ConsensusWord {
    /// As the surest of those that have it writes it.
    pub text: String,
    /// Seconds from the beginning, where one of them says it.
    pub start: Option<f64>,
    /// Seconds from the beginning, where one of them says it.
    pub end: Option<f64>,
    /// The share of votes and their confidence, 0 to 1.
    pub confidence: f64,
    /// How many of the transcripts have it.
    pub votes: usize,
}

/// What several transcripts agree on.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Consensus {
    /// The words, with a space between them.
    pub text: String,
    /// In order.
    pub words: Vec<ConsensusWord>,
}

/// A word in the vote.
#[derive(Debug, Clone)]
struct Ballot {
    key: String,
    word: Word,
}

fn ballots(transcript: &Transcript) -> Vec<Ballot> {
    let untimed = |text: &str| Word { text: text.to_owned(), ..Word::default() };
    let words: Vec<Word> = match transcript.words.is_empty() {
        true => transcript.text.split_whitespace().map(untimed).collect(),
        false => transcript.words.clone(),
    };
    let ballot = |word: Word| Ballot { key: normalise_words(&word.text).concat(), word };
    words.into_iter().map(ballot).filter(|ballot| !ballot.key.is_empty()).collect()
}

/// The consensus of transcripts of the same audio, in the order in which they
/// are believed where all else is equal. `None` if they are too long to be
/// compared.
pub fn consensus(transcripts: &[Transcript]) -> Option<Consensus> {
    // A place holds what each of those before says there.
    let mut places: Vec<Vec<Option<Ballot>>> = Vec::new();
    for (before, transcript) in transcripts.iter().enumerate() {
        let said = ballots(transcript);
        let unlike = |place: usize, word: usize| {
            let place: &Vec<Option<Ballot>> = &places[place];
            let known = place.iter().flatten().map(|known| unlikeness(&known.key, &said[word].key));
            known.min().unwrap_or(MOST_UNLIKE)
        };
        let steps = align_by(places.len(), said.len(), unlike)?;
        let mut next = Vec::with_capacity(steps.len());
        for step in steps {
            let (mut place, ballot) = match step {
                Aligned::Same(at, word) | Aligned::Substituted(at, word) => {
                    (std::mem::take(&mut places[at]), Some(said[word].clone()))
                }
                Aligned::Missing(at) => (std::mem::take(&mut places[at]), None),
                Aligned::Inserted(word) => (vec![None; before], Some(said[word].clone())),
            };
            place.push(ballot);
            next.push(place);
        }
        places = next;
    }
    let words: Vec<ConsensusWord> = places.iter().filter_map(|place| elected(place)).collect();
    let text = words.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
    Some(Consensus { text, words })
}

/// What wins in a place; `None` if no word does.
fn elected(place: &[Option<Ballot>]) -> Option<ConsensusWord> {
    let all = place.len() as f64;
    let sure = |ballot: &Ballot| ballot.word.confidence.unwrap_or(SURE_UNTOLD);
    let score = |votes: usize, sure: f64| BY_VOTES * votes as f64 / all + (1.0 - BY_VOTES) * sure;
    let mut best: Option<(f64, ConsensusWord)> = None;
    for (index, ballot) in place.iter().enumerate() {
        let Some(ballot) = ballot else { continue };
        if place[..index].iter().flatten().any(|before| before.key == ballot.key) {
            continue;
        }
        let votes: Vec<&Ballot> = place.iter().flatten().filter(|other| other.key == ballot.key).collect();
        let mean = votes.iter().map(|vote| sure(vote)).sum::<f64>() / votes.len() as f64;
        let confidence = score(votes.len(), mean);
        if best.as_ref().is_some_and(|(most, _)| *most >= confidence) {
            continue;
        }
        let surest = votes.iter().copied().reduce(|one, other| if sure(other) > sure(one) { other } else { one });
        let Some(surest) = surest else { continue };
        let timed = if surest.word.start.is_some() {
            Some(surest)
        } else {
            votes.iter().copied().find(|it| it.word.start.is_some())
        };
        let word = ConsensusWord {
            text: surest.word.text.clone(),
            start: timed.and_then(|it| it.word.start),
            end: timed.and_then(|it| it.word.end),
            confidence,
            votes: votes.len(),
        };
        best = Some((confidence, word));
    }
    let silent = place.iter().filter(|ballot| ballot.is_none()).count();
    let nothing = if silent == 0 { 0.0 } else { score(silent, SURE_OF_NOTHING) };
    best.filter(|(confidence, _)| *confidence > nothing).map(|(_, word)| word)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::word_errors;

    fn of(text: &str) -> Transcript {
        Transcript { text: text.into(), ..Transcript::default() }
    }

    fn agreed(texts: &[&str]) -> String {
        consensus(&texts.iter().map(|text| of(text)).collect::<Vec<_>>()).expect("short").text
    }

    #[test]
    fn two_of_three_are_believed() {
        assert_eq!(
            agreed(&["The lamp is closing.", "the ramp is closing", "the ramp was closing"]),
            "The ramp is closing."
        );
        assert_eq!(agreed(&["stand clear", "stand clear of", "stand clear of"]), "stand clear of");
        assert_eq!(agreed(&["stand well clear", "stand clear", "stand clear"]), "stand clear");
        let three = ["the ferry leave six o'clock", "the very leaves at six", "The ferry leaves that six"];
        assert_eq!(agreed(&three), "the ferry leaves at six");
        assert_eq!(agreed(&["cast off"]), "cast off");
        assert_eq!(agreed(&["", ""]), "");
        assert_eq!(consensus(&[]).expect("short"), Consensus::default());
    }

    #[test]
    fn where_all_disagree_the_surest_is_believed_and_its_times_are_taken() {
        let sure = |text: &str, confidence: f64| {
            let words = vec![Word {
                text: text.into(),
                start: Some(confidence),
                end: Some(1.0),
                confidence: Some(confidence),
                ..Word::default()
            }];
            Transcript { words, ..of(text) }
        };
        let made = consensus(&[sure("holm", 0.3), sure("home", 0.9), sure("whole", 0.5)]).expect("short");
        assert_eq!((made.text.as_str(), made.words[0].votes, made.words[0].start), ("home", 1, Some(0.9)));
        assert!((made.words[0].confidence - (0.7 / 3.0 + 0.3 * 0.9)).abs() < 1e-9);
    }

    /// Numbers that look random and are the same each time.
    struct Dice(u64);

    impl Dice {
        fn below(&mut self, limit: usize) -> usize {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (self.0 >> 33) as usize % limit
        }

        fn share(&mut self) -> f64 {
            self.below(10_000) as f64 / 10_000.0
        }
    }

    /// What a recogniser makes of words: a share of errors, a third of which
    /// all recognisers make at the same place and in the same way.
    fn noisy(words: &[&str], errors: f64, common: u64, own: u64) -> Transcript {
        let (mut common, mut own) = (Dice(common), Dice(own));
        let mut heard: Vec<Word> = Vec::new();
        let mut say = |text: &str, right: bool, dice: &mut Dice| {
            let confidence = if right { 0.55 + 0.45 * dice.share() } else { 0.2 + 0.65 * dice.share() };
            heard.push(Word { text: text.into(), confidence: Some(confidence), ..Word::default() });
        };
        for word in words {
            let (all_wrong, how, which) = (common.share() < errors / 3.0, common.below(3), common.below(words.len()));
            let own_wrong = own.share() < errors * 2.0 / 3.0;
            let (own_how, own_which) = (own.below(3), own.below(words.len()));
            let (wrong, how, which) = if all_wrong { (true, how, which) } else { (own_wrong, own_how, own_which) };
            match (wrong, how) {
                (false, _) => say(word, true, &mut own),
                (true, 0) => say(words[which], false, &mut own),
                (true, 1) => {}
                (true, _) => {
                    say(word, true, &mut own);
                    say(words[which], false, &mut own);
                }
            }
        }
        let text = heard.iter().map(|word| word.text.as_str()).collect::<Vec<_>>().join(" ");
        Transcript { text, words: heard, ..Transcript::default() }
    }

    /// These texts, shares of errors and dice were not used to find the
    /// constants above.
    #[test]
    fn three_noisy_recognisers_are_worse_than_their_consensus() {
        let texts = [
            "good evening this is your captain speaking we are about to leave the harbour and expect a calm crossing with \
             some light rain towards the end please keep the gangways free and do not leave any luggage near the doors",
            "the timetable for the winter season begins on the first monday of november boats will leave every forty \
             minutes from the north pier while the south pier is closed for repairs until further notice",
        ];
        let (mut lost, mut rounds) = (0, 0);
        let (mut best_errors, mut consensus_errors, mut words) = (0, 0, 0);
        for text in texts {
            let said: Vec<&str> = text.split_whitespace().collect();
            for (round, errors) in (0..30_u64).zip([0.08, 0.14, 0.22].into_iter().cycle()) {
                let heard: Vec<Transcript> =
                    (0..3).map(|own| noisy(&said, errors, 7_000 + round, 90_000 + 31 * round + own)).collect();
                let wrong = |heard: &str| word_errors(text, heard).errors;
                let best = heard.iter().map(|one| wrong(&one.text)).min().expect("three");
                let agreed = wrong(&consensus(&heard).expect("short").text);
                (best_errors, consensus_errors, words) =
                    (best_errors + best, consensus_errors + agreed, words + said.len());
                rounds += 1;
                lost += usize::from(agreed > best);
            }
        }
        let rate = |errors: usize| errors as f64 / words as f64;
        assert!(rate(consensus_errors) < 0.75 * rate(best_errors), "{consensus_errors} of {best_errors}");
        assert!(lost * 10 <= rounds, "worse than the best in {lost} of {rounds}");
    }
}
