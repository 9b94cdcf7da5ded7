//! The order in which the legs of a route are tried, where it is not the one
//! that the route lists them in.

use std::cmp::Reverse;
use std::time::Duration;

use dispatcher_core::{Money, Order, Route, Wanted, Work};
use dispatcher_markup::Outcome;
use dispatcher_store::HealthScope;

use crate::{Gateway, PlannedCall};

/// What a text is planned for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// Somebody waits for it.
    Answer,
    /// It is not sent.
    Estimate,
    /// Its pieces are kept, and each may be by another engine.
    Job,
}

/// The share of calls whose time is the usual one.
pub(crate) const MEDIAN: f64 = 0.5;

impl Gateway {
    /// Puts the candidates of a route, if a route was asked for, in its order.
    pub(crate) fn arrange<T>(&self, wanted: &str, purpose: Purpose, plan: &mut [T], call: impl Fn(&T) -> &PlannedCall) {
        let registry = self.registry();
        let Some(route) = registry.routes().get(wanted) else { return };
        match route.order {
            Order::Listed => draw_first(route, purpose, plan, call),
            Order::Cheapest => {
                let Some(currency) = plan.first().map(|first| call(first).estimate.currency) else { return };
                // Amounts of other currencies are not compared.
                let cost = |money: Money| (money.currency != currency, money.nanos);
                plan.sort_by_key(|planned| cost(call(planned).estimate));
            }
            // What was not measured yet comes behind what was.
            Order::Fastest => {
                plan.sort_by_cached_key(|planned| self.usual_first(call(planned), MEDIAN).unwrap_or(Duration::MAX));
            }
            Order::Faithful => plan.sort_by_cached_key(|planned| losses(call(planned))),
        }
    }

    /// The route that is asked for, where it hedges.
    pub(crate) fn hedging_route(&self, wish: &Wanted) -> Option<String> {
        let Wanted::Named(name) = wish else { return None };
        self.registry().routes().get(name).filter(|route| route.hedge).map(|route| route.name.clone())
    }

    /// How long the first audio, or the transcript, of a candidate takes for a
    /// share of its calls.
    pub(crate) fn usual_first(&self, planned: &PlannedCall, share: f64) -> Option<Duration> {
        let (health, work) = (&self.inner.health, planned.candidate.work);
        let of = |scope, name: &str| health.usual_first(scope, name, work, share);
        let voice = planned.voice_id().filter(|_| work == Work::Synthesis);
        let of_voice = voice.and_then(|voice| of(HealthScope::Voice, &voice));
        of_voice.or_else(|| of(HealthScope::Engine, planned.engine_name()))
    }
}

/// The leg that is drawn by weight goes first, or the heaviest where nobody
/// waits; others with a weight follow it in their order, and those without come
/// last.
fn draw_first<T>(route: &Route, purpose: Purpose, plan: &mut [T], call: impl Fn(&T) -> &PlannedCall) {
    let leg = |planned: &T| call(planned).candidate.leg;
    let usable: Vec<usize> = plan.iter().filter_map(leg).collect();
    let chance = (purpose == Purpose::Answer).then(rand::random);
    let Some(drawn) = route.drawn(&usable, chance) else { return };
    let weighed = |leg: usize| route.legs.get(leg).is_some_and(|leg| leg.weight.is_some());
    plan.sort_by_key(|planned| {
        let leg = leg(planned);
        Reverse((leg == Some(drawn), leg.is_some_and(weighed)))
    });
}

/// The worst that becomes of anything in a script, and of how much.
fn losses(planned: &PlannedCall) -> (Outcome, usize) {
    let fidelity = planned.fidelity();
    let worst = fidelity.iter().map(|item| item.outcome).max().unwrap_or(Outcome::Native);
    (worst, fidelity.iter().filter(|item| item.outcome == worst && worst != Outcome::Native).count())
}
