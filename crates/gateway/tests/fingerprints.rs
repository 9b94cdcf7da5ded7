//! Two requests whose audio may differ never have one fingerprint.

use std::collections::BTreeMap;

use crate::support::{TestGateway, say, script};
use dispatcher_audio::{Codec, Format};
use dispatcher_core::{Shaping, Style};
use dispatcher_gateway::{SynthesisRequest, TextInput, Unsupported};

async fn fingerprint(fixture: &TestGateway, request: &SynthesisRequest) -> String {
    fixture.gateway.estimate_speech(&fixture.caller, request).await.unwrap().fingerprint.unwrap()
}

/// Requests that differ from the first in one member each, by what differs.
fn variants() -> Vec<(&'static str, SynthesisRequest)> {
    let plain = || say("Stand clear of the ramp.", "heron/pellin");
    let shaped = |shaping: Shaping| SynthesisRequest { shaping, ..plain() };
    let in_format = |format: Format| SynthesisRequest { format, ..plain() };
    let mp3 = Format::new(Codec::Mp3, 24_000);
    let style = |strength: Option<f64>| Some(Style { name: "calm".into(), strength });
    vec![
        ("nothing", plain()),
        ("text", SynthesisRequest { text: TextInput::Plain("Stand clear of the Ramp.".into()), ..plain() }),
        ("markup", script("Stand clear of the ramp.", "heron/pellin")),
        ("voice", say("Stand clear of the ramp.", "heron/isolde")),
        ("engine", say("Stand clear of the ramp.", "tape/reel")),
        ("model", SynthesisRequest { model: Some("fine".into()), ..plain() }),
        ("language en", SynthesisRequest { language: Some("en".into()), ..plain() }),
        ("language fr-FR", SynthesisRequest { language: Some("fr-FR".into()), ..plain() }),
        ("rate", shaped(Shaping { rate: Some(0.9), ..Shaping::default() })),
        ("another rate", shaped(Shaping { rate: Some(0.91), ..Shaping::default() })),
        ("a rate beyond the engine's", shaped(Shaping { rate: Some(0.4), ..Shaping::default() })),
        ("pitch", shaped(Shaping { pitch: Some(1.0), ..Shaping::default() })),
        ("volume", shaped(Shaping { volume: Some(-3.0), ..Shaping::default() })),
        (
            "direction",
            SynthesisRequest {
                model: Some("directed".into()),
                ..shaped(Shaping { direction: Some("calmly".into()), ..Shaping::default() })
            },
        ),
        ("the model of a direction", SynthesisRequest { model: Some("directed".into()), ..plain() }),
        ("coding", in_format(Format::new(Codec::Wav, 24_000))),
        ("another coding", in_format(mp3)),
        ("container", in_format(Format::new(Codec::OggOpus, 24_000))),
        ("another container", in_format(Format::new(Codec::WebmOpus, 24_000))),
        ("sample rate", in_format(Format::new(Codec::Pcm, 16_000))),
        ("channels", in_format(Format { channels: 2, ..Format::new(Codec::Pcm, 24_000) })),
        ("channels of MP3", in_format(Format { channels: 2, bitrate: Some(48_000), ..mp3 })),
        ("bit rate", in_format(Format { bitrate: Some(64_000), ..mp3 })),
        ("variable bit rate", in_format(Format { vbr: true, ..mp3 })),
        ("a style that is left out", shaped(Shaping { style: style(None), ..Shaping::default() })),
    ]
}

#[tokio::test]
async fn requests_that_differ_in_one_member_differ_in_fingerprint() {
    let fixture = TestGateway::open().await;
    let mut known: BTreeMap<String, &str> = BTreeMap::new();
    for (what, request) in variants() {
        let found = fingerprint(&fixture, &request).await;
        assert_eq!(found, fingerprint(&fixture, &request).await, "{what}: the same request, twice");
        // Heron has no styles: with and without one, the audio is the same.
        let equal = known.insert(found, what).filter(|_| !what.contains("left out"));
        assert_eq!(equal, None, "{what} has the fingerprint of another");
    }
    assert_eq!(known.len(), variants().len() - 1);
}

#[tokio::test]
async fn what_does_not_shape_the_audio_is_not_in_the_fingerprint() {
    let fixture = TestGateway::open().await;
    let plain = say("Stand clear of the ramp.", "heron/pellin");
    let first = fingerprint(&fixture, &plain).await;
    for request in [
        SynthesisRequest { deadline: Some(900), ..plain.clone() },
        SynthesisRequest { unsupported: Unsupported::Refuse, ..plain.clone() },
        SynthesisRequest {
            trace: Some("00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01".into()),
            ..plain.clone()
        },
    ] {
        assert_eq!(fingerprint(&fixture, &request).await, first, "{request:?}");
    }
    let default = Format { bitrate: None, ..Format::new(Codec::Mp3, 24_000) };
    let said = Format { bitrate: Some(48_000), ..default };
    let of = async |format: Format| fingerprint(&fixture, &SynthesisRequest { format, ..plain.clone() }).await;
    assert_eq!(of(default).await, of(said).await, "the default bit rate, given or not");
}
