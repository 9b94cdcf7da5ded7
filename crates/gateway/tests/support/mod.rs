//! A gateway in this process, with its records, the stand-ins, and two local
//! programs that play a recording and print a transcript.

use std::collections::BTreeMap;
use std::path::Path;

use bytes::Bytes;
use dispatcher_audio::{Codec, Format, decode_all, encode_all};
use dispatcher_core::{Conditions, Criteria, HearingWish, Leg, Order, Route, Wanted, Work};
use dispatcher_engines::{AudioSource, Engine, Fetcher};
use dispatcher_gateway::{
    AudioBody, BodyError, Caller, Dictation, Gateway, HearerWish, Host, JobWork, JobsPlace, NewJob, Registry, RootKeys,
    SynthesisRequest, TextInput, Unsupported, Utterance,
};
use dispatcher_standins::{StandIn, start_heron, start_turnstone, tone};
use dispatcher_store::{App, LedgerEntry, Store, StoredAttempt, StoredDispatch};
use dispatcher_vault::Parts;

pub const TOKEN: &str = "tkn/7Qx+canary";
/// 50 characters.
pub const TEXT: &str = "The 06:15 to Gullsay is delayed by twenty minutes.";
pub const ON_TAPE: &str = "The crossing is suspended.";
pub const HERON: &str = include_str!("../../../../demo/sheets/heron.toml");
const TURNSTONE: &str = include_str!("../../../../demo/sheets/turnstone.toml");

pub struct TestGateway {
    pub folder: tempfile::TempDir,
    pub store: Store,
    pub gateway: Gateway,
    pub heron: StandIn,
    pub turnstone: StandIn,
    pub caller: Caller,
}

pub fn token(token: &str) -> Parts {
    BTreeMap::from([("token".to_owned(), token.to_owned().into())])
}

pub fn app(name: &str) -> App {
    App::new(name, name, 1)
}

/// A program that prints a file, as a synthesiser of what is on it.
pub fn tape(file: &Path) -> String {
    format!(
        "sheet = 1\nname = \"tape\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"cat\"\n\
         [synthesis]\narguments = [\"{}\"]\n[synthesis.formats]\nwav = {{ type = \"audio/wav\", sample_rates = [16000] }}\n\
         [[synthesis.voices]]\nid = \"reel\"\nname = \"Reel\"\nlanguages = [\"en-GB\", \"pt-PT\"]\n",
        file.display()
    )
}

/// A program that prints a file, as a recogniser that always hears the same.
fn scribe(file: &Path) -> String {
    format!(
        "sheet = 1\nname = \"scribe\"\nsite = \"local\"\ndriver = \"process\"\n[process]\nprogram = \"cat\"\n\
         [recognition]\narguments = [\"{}\"]\nlimit = {{ seconds = 60 }}\n[recognition.formats]\n\
         wav = {{ type = \"audio/wav\", sample_rates = [16000] }}\n[recognition.lines]\nignore = [\"<sil>\"]\n",
        file.display()
    )
}

pub fn leg(engine: &str, voice: Option<&str>) -> Leg {
    Leg {
        engine: engine.into(),
        voice: voice.map(str::to_owned),
        criteria: Criteria::default(),
        model: None,
        deadline: Some(4_000),
        credential: None,
        weight: None,
        conditions: Conditions::default(),
    }
}

pub fn route(name: &str, work: Work, legs: Vec<Leg>) -> Route {
    Route { name: name.into(), work, note: String::new(), order: Order::Listed, hedge: false, legs }
}

pub fn load(source: &str, name: &str, endpoint: Option<&str>) -> Engine {
    Engine::load(source, name, endpoint, &Fetcher::new().unwrap()).unwrap()
}

/// Engines of the house; heron's address can be spelt otherwise.
pub fn registry(folder: &Path, heron: &str, turnstone: &str) -> Registry {
    let mut registry = Registry::default();
    registry.add(load(HERON, "heron.toml", Some(heron)));
    registry.add(load(TURNSTONE, "turnstone.toml", Some(turnstone)));
    registry.add(load(&tape(&folder.join("tape.wav")), "tape.toml", None));
    registry.add(load(&scribe(&folder.join("scribe.txt")), "scribe.toml", None));
    registry
}

/// A host that keeps no sound and moves no engine.
pub fn host() -> Host {
    Host::alone(Fetcher::new().unwrap())
}

/// The same, which takes jobs.
pub fn host_with_jobs(folder: &Path) -> Host {
    let keep = std::time::Duration::from_secs(3_600);
    let jobs = Some(JobsPlace { folder: folder.join("jobs"), keep, held: false });
    Host { jobs, clips: Some(folder.join("clips")), ..host() }
}

impl TestGateway {
    /// A house with credentials bound and two routes: `pier` speaks, `ear` hears.
    pub async fn open() -> TestGateway {
        TestGateway::open_with(|_, _| {}).await
    }

    /// The same with other engines besides, which are told heron's address.
    pub async fn open_with(more: impl FnOnce(&mut Registry, &str)) -> TestGateway {
        TestGateway::open_near(Vec::new(), more).await
    }

    /// The same on a host that fetches from others.
    pub async fn open_near(fetch_hosts: Vec<String>, more: impl FnOnce(&mut Registry, &str)) -> TestGateway {
        let folder = tempfile::tempdir().unwrap();
        let samples = tone::speak(ON_TAPE, tone::Manner { pitch: 1.0, rate: 1.5 }, 16_000);
        let wav = encode_all(&samples, Format::new(Codec::Wav, 16_000)).unwrap();
        std::fs::write(folder.path().join("tape.wav"), wav).unwrap();
        std::fs::write(
            folder.path().join("scribe.txt"),
            "<sil> 0 0.2 1\nthe 0.2 0.3 0.9\nramp 0.3 0.6 0.8\nis 0.6 0.7 0.9\nclosing 0.7 1.1 0.7\n",
        )
        .unwrap();
        let heron = start_heron(0, TOKEN).await.unwrap();
        let turnstone = start_turnstone(0, TOKEN).await.unwrap();
        let mut registry = registry(folder.path(), &heron.url(), &turnstone.url());
        more(&mut registry, &heron.url());
        let keyed: Vec<String> = registry
            .engines()
            .map(|engine| engine.sheet())
            .filter(|sheet| sheet.access.parts == ["token"])
            .map(|sheet| sheet.name.clone())
            .collect();
        let store = Store::open(&folder.path().join("records.db")).unwrap();
        store.add_app(app("quay"), "test".into()).await.unwrap();
        let root = RootKeys::of_file(&folder.path().join("root.key")).unwrap();
        let gateway =
            Gateway::start(store.clone(), root, registry, Host { fetch_hosts, ..host_with_jobs(folder.path()) })
                .await
                .unwrap();
        for engine in &keyed {
            gateway.add_credential(engine, None, token(TOKEN), "test").await.unwrap();
        }
        let pier = route("pier", Work::Synthesis, vec![leg("heron", Some("pellin")), leg("tape", None)]);
        let ear = route("ear", Work::Recognition, vec![leg("turnstone", None), leg("scribe", None)]);
        gateway.put_route(pier, "test").await.unwrap();
        gateway.put_route(ear, "test").await.unwrap();
        let caller = Caller::of_app(app("quay"), "test");
        TestGateway { folder, store, gateway, heron, turnstone, caller }
    }

    pub async fn speak(&self, request: SynthesisRequest) -> Utterance {
        self.gateway.speak(&self.caller, request).await.unwrap_or_else(|error| panic!("{error}"))
    }

    pub async fn dispatch(&self, id: &str) -> (StoredDispatch, Vec<StoredAttempt>, Vec<LedgerEntry>) {
        self.store.dispatch(id.into()).await.unwrap()
    }

    /// The dispatch once it is no longer open.
    pub async fn settled(&self, id: &str) -> (StoredDispatch, Vec<StoredAttempt>, Vec<LedgerEntry>) {
        for _ in 0..400 {
            let found = self.dispatch(id).await;
            if found.0.state.name() != "running" {
                return found;
            }
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
        panic!("the dispatch {id} was never settled");
    }

    /// Begins the job of transcribing 16 kHz samples in British English; its id.
    pub async fn begin_dictation(&self, title: &str, samples: &[f32], engine: &str) -> String {
        let wav = encode_all(samples, Format::new(Codec::Wav, 16_000)).unwrap();
        let work = JobWork::Hearing(Box::new(Dictation {
            told: None,
            hearer: HearerWish { wanted: Some(engine.into()), language: Some("en-GB".into()), ..HearerWish::default() },
            wish: HearingWish::default(),
            unsupported: Unsupported::Adapt,
            deadline: None,
            credential: None,
        }));
        let audio = Some(AudioSource::Memory(Bytes::from(wav)));
        let job = NewJob { title: title.into(), work, audio, webhook: None, warnings: Vec::new() };
        self.gateway.submit(&self.caller, job).await.unwrap().row.id
    }

    /// How many dispatches there are.
    pub async fn count(&self) -> usize {
        let filter = dispatcher_store::DispatchFilter { limit: 100, ..Default::default() };
        self.store.dispatches(filter).await.unwrap().len()
    }
}

/// Text for a voice or route, as 24 kHz PCM.
pub fn say(text: &str, wanted: &str) -> SynthesisRequest {
    SynthesisRequest {
        text: TextInput::Plain(text.into()),
        wanted: Some(Wanted::Named(wanted.into())),
        model: None,
        language: None,
        unsupported: Unsupported::Adapt,
        shaping: Default::default(),
        format: Format::new(Codec::Pcm, 24_000),
        deadline: None,
        credential: None,
        region: None,
        trace: None,
        notes: Vec::new(),
        cache: Default::default(),
    }
}

/// The body of a script for a voice or route.
pub fn script(body: &str, voice: &str) -> SynthesisRequest {
    let document = format!(
        "<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\" xml:lang=\"en-GB\">{body}</speak>"
    );
    SynthesisRequest { text: TextInput::Ssml(document), ..say("", voice) }
}

/// The samples of an utterance, at 24 kHz, and what is heard in them.
pub async fn listen(utterance: Utterance) -> (Vec<f32>, Vec<tone::Heard>) {
    let format = utterance.format;
    let audio = collect(utterance.body).await.unwrap();
    let (samples, layout) = decode_all(&audio, format).unwrap();
    let heard = tone::hear(&samples, layout.rate);
    (samples, heard)
}

/// What was heard, whole.
pub fn texts(heard: &[tone::Heard]) -> Vec<&str> {
    assert!(heard.iter().all(|one| one.complete), "{heard:?}");
    heard.iter().map(|one| one.text.as_str()).collect()
}

pub async fn collect(mut body: AudioBody) -> Result<Vec<u8>, BodyError> {
    let mut audio = Vec::new();
    while let Some(piece) = body.next().await {
        audio.extend_from_slice(&piece?);
    }
    Ok(audio)
}

/// The words in audio of a format.
pub fn words(audio: &[u8], format: Format) -> String {
    let (samples, layout) = decode_all(audio, format).unwrap();
    tone::hear(&samples, layout.rate).into_iter().map(|heard| heard.text).collect()
}

/// The weather of a stand-in; clear where there is no forecast.
pub async fn weather(standin: &StandIn, forecast: &str) {
    let (client, url) = (reqwest::Client::new(), format!("{}/weather", standin.url()));
    let request = if forecast.is_empty() { client.delete(url) } else { client.put(url).body(forecast.to_owned()) };
    assert!(request.send().await.unwrap().status().is_success(), "{forecast}");
}

pub async fn delivered(standin: &StandIn) -> serde_json::Value {
    reqwest::get(format!("{}/delivered", standin.url())).await.unwrap().json().await.unwrap()
}

/// `kind amount` of each ledger line.
pub fn lines(ledger: &[LedgerEntry]) -> Vec<(String, i64)> {
    ledger.iter().map(|line| (line.kind.name().to_owned(), line.nanos)).collect()
}
