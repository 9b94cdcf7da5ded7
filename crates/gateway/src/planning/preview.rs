//! What a route would do with a request: each leg, whether it would be tried,
//! in which place and at what cost, and why not. Nothing is sent.

use std::time::Duration;

use dispatcher_audio::{Codec, Format, Length};
use dispatcher_core::{LegFault, Order, PlanError, Route, Work};
use dispatcher_markup::Outcome;
use dispatcher_store::{App, StoreError};

use crate::intake::recording::AudioInfo;
use crate::planning::hearers::hearing_call;
use crate::planning::order::{MEDIAN, Purpose};
use crate::planning::plan::Planning;
use crate::planning::render_plan::SentenceCalls;
use crate::{Caller, Gateway, GatewayError, PlannedCall, SynthesisRequest};

/// What a route is tried with.
pub enum PreviewedRequest {
    Synthesis(Box<SynthesisRequest>),
    /// Seconds of audio, and its language.
    Recognition {
        seconds: f64,
        language: Option<String>,
    },
}

impl PreviewedRequest {
    fn work(&self) -> Work {
        match self {
            PreviewedRequest::Synthesis(_) => Work::Synthesis,
            PreviewedRequest::Recognition { .. } => Work::Recognition,
        }
    }
}

/// What becomes of one leg.
pub struct LegPreview {
    /// From 0, as the route lists it.
    pub leg: usize,
    pub engine: String,
    /// Its call; `None` if the leg cannot take the request at all.
    pub planned: Option<PlannedCall>,
    /// Position in which it would be tried, from 1; `None` if it is passed over.
    pub place: Option<usize>,
    /// Reason why it is passed over.
    pub passed_over: Option<String>,
    /// The worst that becomes of anything in the script.
    pub worst: Option<Outcome>,
    /// Until the first audio or the transcript, as measured lately.
    pub usual_first: Option<Duration>,
}

/// What a route would do.
pub struct RoutePreview {
    pub order: Order,
    /// The app that it was tried for.
    pub app: String,
    /// As the route lists them.
    pub legs: Vec<LegPreview>,
}

impl Caller {
    /// Somebody who tries what an app would get.
    fn as_app(&self, app: App) -> Caller {
        Caller::of_app(app, self.who.clone())
    }
}

impl Gateway {
    /// What a route would do with a request, for the caller's app or another.
    ///
    /// # Errors
    /// Where there is no such route or app, or the request itself is at fault.
    pub async fn preview_route(
        &self,
        caller: &Caller,
        name: &str,
        app: Option<&str>,
        input: PreviewedRequest,
    ) -> Result<RoutePreview, GatewayError> {
        let registry = self.registry();
        let missing = || StoreError::Missing { what: "route", name: name.to_owned() };
        let route = registry.routes().get(name).ok_or_else(missing)?;
        let caller = match app {
            Some(app) => caller.as_app(self.app(app).await?),
            None => caller.clone(),
        };
        let legs = match (route.work, input) {
            (Work::Synthesis, PreviewedRequest::Synthesis(request)) => {
                self.preview_speech(&caller, route, &request).await?
            }
            (Work::Recognition, PreviewedRequest::Recognition { seconds, language }) => {
                self.preview_hearing(&caller, route, seconds, language.as_deref())?
            }
            (has, input) => {
                let wanted = input.work();
                return Err(PlanError::OtherWork { route: name.to_owned(), has, wanted }.into());
            }
        };
        let mut previews = Vec::new();
        let mut calls = Vec::new();
        for (leg, call) in legs.into_iter().enumerate() {
            let engine = route.legs[leg].engine.clone();
            let fault = match &call {
                Ok(planned) => self.not_called(planned).await,
                Err(why) => Some(why.clone()),
            };
            let planned = call.ok();
            previews.push(LegPreview {
                leg,
                engine,
                place: None,
                passed_over: fault.clone(),
                worst: planned.as_ref().filter(|_| route.work == Work::Synthesis).map(PlannedCall::worst),
                usual_first: planned.as_ref().and_then(|planned| self.usual_first(planned, MEDIAN)),
                planned: planned.clone(),
            });
            calls.extend(planned.filter(|_| fault.is_none()).map(|planned| (leg, planned)));
        }
        self.arrange(name, Purpose::Estimate, &mut calls, |(_, planned)| planned);
        for (place, (leg, _)) in calls.iter().enumerate() {
            previews[*leg].place = Some(place + 1);
        }
        Ok(RoutePreview { order: route.order, app: caller.app.name, legs: previews })
    }

    /// Why the engine of a call would not be called now.
    pub(crate) async fn not_called(&self, planned: &PlannedCall) -> Option<String> {
        if let Some(reason) = planned.engine.absent() {
            return Some(reason);
        }
        if let Err(error) = self.credential_for(&planned.engine, planned.candidate.credential.as_deref()).await {
            return Some(error.detail);
        }
        let credential = self.credential_name(planned).await;
        self.inner.breakers.would_pass(planned.engine_name(), credential.as_deref()).err().map(|(why, _)| why)
    }

    async fn preview_speech(
        &self,
        caller: &Caller,
        route: &Route,
        request: &SynthesisRequest,
    ) -> Result<Vec<Result<PlannedCall, String>>, GatewayError> {
        request.format.check_output().map_err(GatewayError::Format)?;
        let script = request.text.parse()?;
        let resources = self.resources(caller, &script).await;
        let registry = self.registry();
        let planning = Planning {
            registry: &registry,
            caller,
            request,
            script: &script,
            resources: &resources,
            granted: caller.granted(),
        };
        let legs = planning.with_planner(|planner| planner.legs(route, request.model.as_deref(), planning.language()));
        let call = |leg: Result<_, LegFault>| {
            let candidate = leg.map_err(|fault| fault.to_string())?;
            planning.call_of(candidate, SentenceCalls::Together).map_err(|error| error.to_string())
        };
        Ok(legs.into_iter().map(call).collect())
    }

    fn preview_hearing(
        &self,
        caller: &Caller,
        route: &Route,
        seconds: f64,
        language: Option<&str>,
    ) -> Result<Vec<Result<PlannedCall, String>>, GatewayError> {
        const RATE: u32 = 16_000;
        let audio = AudioInfo {
            format: Format::new(Codec::Wav, RATE),
            length: Length { frames: (seconds * f64::from(RATE)) as u64, rate: RATE },
            bytes: (seconds * f64::from(2 * RATE)) as u64,
            depth: None,
            open_ended: false,
            warnings: Vec::new(),
        };
        let registry = self.registry();
        let planner = registry.planner(None).within(caller.bounds()).under(caller.circumstances(&[]));
        let call = |leg: Result<_, LegFault>| {
            let candidate = leg.map_err(|fault| fault.to_string())?;
            let (planned, over) = hearing_call(&registry, candidate, &audio).map_err(|error| error.to_string())?;
            over.map_or(Ok(planned), |over| Err(over.to_string()))
        };
        Ok(planner.legs(route, None, language).into_iter().map(call).collect())
    }
}
