//! The demo scenario: sheets, apps, routes, scripts. All made up.

use std::path::Path;

use dispatcher_audio::{Codec, Format};
use dispatcher_core::{
    Conditions, Criteria, Leg, MaskRule, Order, Phrase, PromptTable, Route, VocabularyWord, Work, read_prompts,
};
use dispatcher_gateway::{App, Caller, CallerRole, Gateway, GatewayError, NewLexicon, OwnPreset, now_micros};
use dispatcher_store::StoreError;
use dispatcher_vault::Parts;
use serde::Deserialize;

use crate::error::CliError;

pub(super) const SHEETS: [(&str, &str); 11] = [
    ("avocet.toml", include_str!("../../../../demo/sheets/avocet.toml")),
    ("curlew.toml", include_str!("../../../../demo/sheets/curlew.toml")),
    ("dotterel.toml", include_str!("../../../../demo/sheets/dotterel.toml")),
    ("redshank.toml", include_str!("../../../../demo/sheets/redshank.toml")),
    ("sanderling.toml", include_str!("../../../../demo/sheets/sanderling.toml")),
    ("whimbrel.toml", include_str!("../../../../demo/sheets/whimbrel.toml")),
    ("phalarope.toml", include_str!("../../../../demo/sheets/phalarope.toml")),
    ("bittern.toml", include_str!("../../../../demo/sheets/bittern.toml")),
    ("godwit.toml", include_str!("../../../../demo/sheets/godwit.toml")),
    ("heron.toml", include_str!("../../../../demo/sheets/heron.toml")),
    ("turnstone.toml", include_str!("../../../../demo/sheets/turnstone.toml")),
];
const ANNOUNCEMENTS: &str = include_str!("../../../../demo/scripts/announcements.toml");
/// What is said at a safety drill.
pub(super) const DRILL: &str = include_str!("../../../../demo/scripts/drill.txt");

/// How the names of the scenario are said, and the audio before announcements.
const NAMES: &str = include_str!("../../../../demo/scripts/saltmarsh.pls");
/// The safety handbook of the ferry line.
pub(super) const HANDBOOK: &str = include_str!("../../../../demo/scripts/handbook.md");
const PROMPTS: &str = include_str!("../../../../demo/scripts/prompts.toml");
const CHIME: &[u8] = include_bytes!("../../../../demo/scripts/chime.wav");

/// What a quay announces.
#[derive(Debug, Deserialize)]
pub(super) struct Announcement {
    pub(super) name: String,
    pub(super) language: String,
    pub(super) text: String,
}

#[derive(Deserialize)]
struct Announcements {
    announcement: Vec<Announcement>,
}

/// The announcements of the quays.
pub(super) fn announcements() -> Result<Vec<Announcement>, CliError> {
    let read: Result<Announcements, _> = toml::from_str(ANNOUNCEMENTS);
    Ok(read.map_err(|error| CliError::Failed(error.to_string()))?.announcement)
}

/// Puts the stand-ins' sheets where the service reads them.
pub(super) fn write_sheets(folder: &Path) -> Result<(), CliError> {
    let failed = |source| CliError::File { path: folder.into(), source };
    std::fs::create_dir_all(folder).map_err(failed)?;
    for (name, sheet) in SHEETS {
        std::fs::write(folder.join(name), sheet).map_err(failed)?;
    }
    Ok(())
}

fn leg(engine: &str, voice: Option<&str>, languages: Option<&str>, deadline: u64) -> Leg {
    Leg {
        engine: engine.into(),
        voice: voice.map(str::to_owned),
        criteria: Criteria { languages: languages.map(str::to_owned), ..Criteria::default() },
        model: None,
        deadline: Some(deadline),
        credential: None,
        weight: None,
        conditions: Conditions::default(),
    }
}

fn routes() -> [Route; 3] {
    let route = |name: &str, work, note: &str, legs| Route {
        name: name.into(),
        work,
        note: note.into(),
        order: Order::Listed,
        hedge: false,
        legs,
    };
    [
        route(
            "quayside",
            Work::Synthesis,
            "announcements on the quays, in the language of the text",
            vec![leg("heron", None, Some("en-GB"), 3_000), leg("espeak-ng", None, Some("en-GB"), 5_000)],
        ),
        route(
            "harbour-phone",
            Work::Synthesis,
            "the helpline's voice",
            vec![leg("heron", Some("isolde"), None, 2_000), leg("flite", Some("awb"), None, 5_000)],
        ),
        route(
            "captions",
            Work::Recognition,
            "subtitles of safety drills",
            vec![leg("turnstone", None, None, 20_000), leg("pocketsphinx", None, None, 60_000)],
        ),
    ]
}

fn apps() -> [App; 3] {
    let app = |name: &str, title: &str, voice: Option<&str>, recognition: Option<&str>| App {
        default_voice: voice.map(str::to_owned),
        default_recognition: recognition.map(str::to_owned),
        ..App::new(name, title, now_micros())
    };
    [
        App {
            transcript_days: Some(30),
            ..app("quay-announcer", "Announcements on the quays", Some("quayside"), Some("captions"))
        },
        App {
            default_format: Some("phone".into()),
            ..app("helpline", "The ferry helpline", Some("harbour-phone"), Some("captions"))
        },
        app("drill-captions", "Subtitles of safety drills", None, Some("captions")),
    ]
}

/// What the screens at the gates play.
fn gate_screen() -> OwnPreset {
    OwnPreset {
        name: "gate-screen".into(),
        format: Format { bitrate: Some(32_000), ..Format::new(Codec::Mp3, 16_000) },
        purpose: "screens at the gates: small enough for the pier's radio link".into(),
    }
}

/// What an app has done with its transcripts.
async fn fill_rules(gateway: &Gateway, app: &str) -> Result<(), GatewayError> {
    let rules = gateway.rules_of(app);
    if rules.vocabulary == 0 {
        let word = |word: &str, alias: &[&str]| VocabularyWord {
            grapheme: vec![word.to_owned()],
            alias: alias.iter().map(|alias| (*alias).to_owned()).collect(),
            phoneme: Vec::new(),
            written: None,
        };
        let words = vec![word("Gullsay", &["gull say"]), word("Skerrow", &["scare oh"]), word("Ondina", &[])];
        gateway.put_vocabulary(app, words, "demo").await?;
    }
    if rules.phrases == 0 {
        let phrase = |command: &str, phrase: &str, slots: &[(&str, &[&str])]| Phrase {
            command: command.to_owned(),
            phrase: phrase.to_owned(),
            slots: slots
                .iter()
                .map(|(slot, values)| ((*slot).to_owned(), values.iter().map(|it| (*it).to_owned()).collect()))
                .collect(),
        };
        let places: &[&str] = &["Gullsay", "Skerrow", "Holm"];
        let phrases = vec![
            phrase("next-departure", "[when is the] next [ferry] to {place}", &[("place", places)]),
            phrase("close-ramp", "close the ramp", &[]),
            phrase("announce", "announce {text} at [the] {pier} pier", &[("pier", &["north", "south"])]),
        ];
        gateway.put_phrases(app, phrases, "demo").await?;
    }
    if rules.masks == 0 {
        let mask = |name: &str, pattern: Option<&str>| MaskRule {
            name: name.to_owned(),
            digits: None,
            pattern: pattern.map(str::to_owned),
        };
        let masks = vec![mask("card-number", None), mask("booking", Some("SF-[0-9]{6}"))];
        gateway.put_masks(app, masks, "demo").await?;
    }
    Ok(())
}

/// What scripts name beside their text, and the prompts of the telephone.
async fn fill_beside(gateway: &Gateway) -> Result<(), GatewayError> {
    if gateway.registry().lexicons().all().all(|lexicon| lexicon.name != "saltmarsh") {
        let names = NewLexicon { name: "saltmarsh".into(), app: None, always: false, document: NAMES.into() };
        gateway.put_lexicon(names, "demo").await?;
    }
    let shared = Caller { role: CallerRole::Operator, ..Caller::of_app(gateway.app("console").await?, "demo") };
    gateway.keep_clip(&shared, "chime.wav", CHIME.into()).await?;
    let helpline = Caller::of_app(gateway.app("helpline").await?, "demo");
    if gateway.prompt_sets(&helpline).await?.is_empty() {
        let unread = |_| GatewayError::Contradiction("the prompt table of the demo cannot be read");
        let table = read_prompts(PROMPTS, PromptTable::Toml).map_err(unread)?;
        gateway.put_prompt_set(&helpline, "helpline", table).await?;
    }
    Ok(())
}

/// Has the timetable desk answer for an app, unless it has a hook of its own:
/// the desk is at another port each time.
async fn set_reply_hook(gateway: &Gateway, name: &str, address: &str) -> Result<(), GatewayError> {
    let mut app = gateway.app(name).await?;
    let of_desk = |hook: &String| hook.starts_with("http://127.0.0.1:") && hook.ends_with("/answer");
    if app.reply_hook.as_ref().is_none_or(of_desk) {
        app.reply_hook = Some(address.to_owned());
        app.apology
            .get_or_insert_with(|| "I am sorry, the timetable desk does not answer. Please ask at the quay.".into());
        gateway.change_app(app, "demo").await?;
    }
    Ok(())
}

/// Fills the records with the scenario; what is there already stays.
pub(super) async fn fill(
    gateway: &Gateway,
    credentials: Vec<(&str, Parts)>,
    reply_hook: &str,
) -> Result<(), GatewayError> {
    for app in apps() {
        match gateway.add_app(app, "demo").await {
            Ok(_) | Err(GatewayError::Store(StoreError::Taken { .. })) => {}
            Err(error) => return Err(error),
        }
    }
    if gateway.registry().presets().all().iter().all(|(preset, _)| preset.name != gate_screen().name) {
        gateway.put_preset(gate_screen(), "demo").await?;
    }
    fill_beside(gateway).await?;
    for app in ["quay-announcer", "console"] {
        fill_rules(gateway, app).await?;
    }
    let mut console = gateway.app("console").await?;
    if console.default_voice.is_none() {
        console.default_voice = Some("quayside".into());
        console.default_recognition = Some("captions".into());
        console.transcript_days = Some(30);
        gateway.change_app(console, "demo").await?;
    }
    for name in ["quay-announcer", "helpline", "console"] {
        set_reply_hook(gateway, name, reply_hook).await?;
    }
    for route in routes() {
        if !gateway.registry().routes().contains_key(&route.name) {
            gateway.put_route(route, "demo").await?;
        }
    }
    for (engine, parts) in credentials {
        gateway.add_credential(engine, None, parts, "demo").await?;
    }
    Ok(())
}
