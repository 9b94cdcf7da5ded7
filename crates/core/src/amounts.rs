//! Amounts of requests, as tokens and allowances count them: characters of
//! text, audio to be recognised, and money. The limits themselves are in
//! `token.rs` and `allowance.rs`.

use crate::{Costs, Money, Usage};

/// Amounts that requests used, or that are held for running requests.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AmountsUsed {
    /// Characters of text.
    pub characters: u64,
    /// Milliseconds of recognised audio.
    pub milliseconds: u64,
    /// What was charged.
    pub costs: Costs,
}

/// What one request uses of a token or an allowance.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RequestShare {
    /// Characters of text.
    pub characters: u64,
    /// Milliseconds of audio to be recognised.
    pub milliseconds: u64,
    /// The top of what it costs.
    pub cost: Money,
}

impl RequestShare {
    /// What a text takes.
    pub fn of_text(usage: Usage, cost: Money) -> RequestShare {
        RequestShare { characters: usage.characters, milliseconds: 0, cost }
    }

    /// What a recording takes.
    pub fn of_audio(milliseconds: u64, cost: Money) -> RequestShare {
        RequestShare { characters: 0, milliseconds, cost }
    }
}

impl AmountsUsed {
    /// Counts something, whatever the terms are.
    pub fn add(&mut self, share: RequestShare) {
        self.characters = self.characters.saturating_add(share.characters);
        self.milliseconds = self.milliseconds.saturating_add(share.milliseconds);
        // What does not fit into 64 bits is far beyond any terms.
        let _ = self.costs.add(share.cost);
    }

    /// Adds everything that is in another count.
    pub fn add_all(&mut self, other: &AmountsUsed) {
        self.characters = self.characters.saturating_add(other.characters);
        self.milliseconds = self.milliseconds.saturating_add(other.milliseconds);
        for cost in other.costs.amounts() {
            let _ = self.costs.add(*cost);
        }
    }

    /// Takes everything back that is in another count.
    pub fn give_back_all(&mut self, held: &AmountsUsed) {
        self.characters = self.characters.saturating_sub(held.characters);
        self.milliseconds = self.milliseconds.saturating_sub(held.milliseconds);
        for cost in held.costs.amounts() {
            let _ = self.costs.add(Money { nanos: -cost.nanos, ..*cost });
        }
    }

    /// Takes back what was counted and is not used.
    pub fn give_back(&mut self, share: RequestShare) {
        self.characters = self.characters.saturating_sub(share.characters);
        self.milliseconds = self.milliseconds.saturating_sub(share.milliseconds);
        let _ = self.costs.add(Money { nanos: -share.cost.nanos, ..share.cost });
    }
}
