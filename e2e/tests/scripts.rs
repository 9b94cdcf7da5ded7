//! Scripts over the network: what `lint` foretells is what is done, and texts
//! of any length are spoken whole.

use crate::BINARY;
use dispatcher_audio::Format;
use dispatcher_e2e::{Demo, header, words_of};
use serde_json::{Value, json};

fn demo_file(name: &str) -> String {
    let path = format!("{}/../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{path}: {error}"))
}

/// Everything of the demo that is one document to be spoken, and beside it
/// scripts that have each element.
fn documents() -> Vec<(&'static str, String)> {
    let every = "<speak version=\"1.1\" xml:lang=\"en-GB\">\
        <p><s>The <emphasis>last</emphasis> ferry leaves at <say-as interpret-as=\"time\" format=\"hms24\">18:40</say-as>.</s>\
        <s><prosody rate=\"80%\" pitch=\"+2st\" volume=\"+3dB\">Stand clear of the <sub alias=\"lifeboat\">LB</sub>.</prosody></s></p>\
        <break time=\"400ms\"/><mark name=\"call\"/>\
        <voice gender=\"male\">All aboard.</voice> <lang xml:lang=\"fr-FR\">Bonjour.</lang>\
        <phoneme alphabet=\"ipa\" ph=\"ˈɡʌlzeɪ\">Gullsay</phoneme> <w role=\"s:noun\" xmlns:s=\"urn:x\">quay</w>\
        <audio src=\"https://sounds.saltmarsh.example/bell.wav\">A bell rings.</audio>\
        <say-as interpret-as=\"ordinal\">3</say-as></speak>";
    vec![
        ("boarding.ssml", demo_file("scripts/boarding.ssml")),
        ("names.ssml", demo_file("scripts/names.ssml")),
        ("drill.txt", demo_file("scripts/drill.txt")),
        ("every element", every.to_owned()),
    ]
}

fn cells(fidelity: &Value) -> Vec<(String, u64, u64, String)> {
    let cell = |it: &Value| {
        let number = |name: &str| it[name].as_u64().unwrap();
        let text = |name: &str| it[name].as_str().unwrap().to_owned();
        (text("element"), number("line"), number("column"), text("outcome"))
    };
    fidelity.as_array().unwrap().iter().map(cell).collect()
}

#[tokio::test]
async fn each_cell_of_lint_is_what_the_engine_then_does() {
    let demo = Demo::start(BINARY).await;
    let sheets = format!("{}/../demo/sheets", env!("CARGO_MANIFEST_DIR"));
    // What names.ssml names stands beside it, and on record in the service.
    for beside in ["saltmarsh.pls", "chime.wav"] {
        let from = format!("{}/../demo/scripts/{beside}", env!("CARGO_MANIFEST_DIR"));
        std::fs::copy(from, demo.folder.path().join(beside)).unwrap();
    }
    let mut compared = 0;
    for (name, document) in documents() {
        let file = demo.folder.path().join("script");
        std::fs::write(&file, &document).unwrap();
        let output = demo.client(&["lint", file.to_str().unwrap(), "--sheets", &sheets, "--json"]);
        assert!(output.status.success(), "{name}: {output:?}");
        let told: Value = serde_json::from_slice(&output.stdout).unwrap();
        assert_eq!(told["refused"], json!([]), "{name}");
        for column in told["engines"].as_array().unwrap() {
            let member = if document.contains("<speak") { "ssml" } else { "text" };
            let mut request = json!({ "voice": column["voice"] });
            request[member] = json!(document);
            let response = demo.speak(request, "application/json").await;
            let status = response.status();
            let answer: Value = response.json().await.unwrap();
            assert!(status.is_success(), "{name} with {}: {answer}", column["engine"]);
            assert_eq!(cells(&answer["fidelity"]), cells(&column["fidelity"]), "{name} with {}", column["engine"]);
            compared += cells(&column["fidelity"]).len();
        }
    }
    assert!(compared > 100, "only {compared} cells");
}

#[tokio::test]
async fn a_lexicon_and_a_clip_are_kept_named_and_heard() {
    let demo = Demo::start(BINARY).await;
    let run = |args: &[&str]| {
        let output = demo.client(args);
        assert!(output.status.success(), "{args:?}: {output:?}");
        String::from_utf8(output.stdout).unwrap()
    };
    let names = format!("{}/../demo/scripts", env!("CARGO_MANIFEST_DIR"));
    let file = |name: &str| format!("{names}/{name}");
    run(&["speak", "--file", &file("names.ssml"), "--voice", "heron/pellin", "-o", "names.wav"]);
    let audio = std::fs::read(demo.folder.path().join("names.wav")).unwrap();
    let said = "Saltmarsh Ferries welcomes you on board the motor vessel Marram to Gull-zay and Werry Gate.";
    assert_eq!(words_of(&audio, Format::default()), said);
    // One for the announcer alone, which holds for all its text.
    let drill = "<lexicon version=\"1.0\" xmlns=\"http://www.w3.org/2005/01/pronunciation-lexicon\" alphabet=\"ipa\" \
        xml:lang=\"en-GB\"><lexeme><grapheme>LB</grapheme><alias>lifeboat</alias></lexeme></lexicon>";
    std::fs::write(demo.folder.path().join("drill.pls"), drill).unwrap();
    run(&["lexicon", "add", "drill", "drill.pls", "--app", "quay-announcer"]);
    let listed: Value = serde_json::from_str(&run(&["lexicon", "list", "--json"])).unwrap();
    let told: Vec<Value> = listed["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|it| json!([it["name"], it["version"], it["app"], it["always"], it["lexemes"]]))
        .collect();
    assert_eq!(told, [json!(["drill", 1, "quay-announcer", true, 1]), json!(["saltmarsh", 1, null, false, 4])]);
    run(&["speak", "Man the LB.", "--voice", "heron/pellin", "-o", "own.wav"]);
    let own = std::fs::read(demo.folder.path().join("own.wav")).unwrap();
    assert_eq!(words_of(&own, Format::default()), "Man the LB.", "the console is another app");
    assert_eq!(run(&["lexicon", "show", "drill"]).trim_end(), drill);
    run(&["lexicon", "retire", "drill"]);
    let faulty = demo.folder.path().join("faulty.pls");
    std::fs::write(&faulty, drill.replace("</lexeme>", "")).unwrap();
    let refused = demo.client(&["lexicon", "add", "drill", faulty.to_str().unwrap()]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("line 1, column"), "{refused:?}");

    let listed: Value = serde_json::from_str(&run(&["clip", "list", "--json"])).unwrap();
    let id = listed["items"][0]["id"].as_str().unwrap().to_owned();
    let again = run(&["clip", "add", &file("chime.wav"), "--title", "another"]);
    assert_eq!(again.trim_end(), format!("clip:{id}"), "the same sound is kept once");
    let place = format!("{}/api/v1/clips/{id}", demo.url);
    let get = |name: &'static str, value: String| {
        let request = reqwest::Client::new().get(&place).bearer_auth(&demo.operator).header(name, value);
        async move { request.send().await.unwrap() }
    };
    let sound = std::fs::read(file("chime.wav")).unwrap();
    let part = get("Range", "bytes=44-47".into()).await;
    assert_eq!((part.status().as_u16(), header(&part, "content-range")), (206, format!("bytes 44-47/{}", sound.len())));
    assert_eq!(part.bytes().await.unwrap(), sound[44..48]);
    assert_eq!(get("Range", "bytes=99999-".into()).await.status(), 416);
    assert_eq!(get("If-None-Match", format!("\"{id}\"")).await.status(), 304);
    assert_eq!(get("Range", "bytes=0-1,4-5".into()).await.bytes().await.unwrap(), sound);
    run(&["clip", "fetch", &id[..6], "-o", "fetched.wav"]);
    assert_eq!(std::fs::read(demo.folder.path().join("fetched.wav")).unwrap(), sound);
    let again = demo.client(&["clip", "fetch", &id[..6], "-o", "fetched.wav"]);
    assert!(String::from_utf8_lossy(&again.stderr).contains("use --force to overwrite it"), "{again:?}");
    let none = demo.client(&["clip", "fetch", "zz"]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("there is no clip 'zz'"), "{none:?}");
    let no_sound = demo.client(&["clip", "add", "drill.pls"]);
    assert_eq!(no_sound.status.code(), Some(1), "{no_sound:?}");
    run(&["clip", "remove", &id[..6]]);
    assert_eq!(get("Accept", "audio/wav".into()).await.status(), 404);
}

#[tokio::test]
async fn a_text_beyond_the_limit_of_the_engine_is_spoken_whole() {
    let demo = Demo::start(BINARY).await;
    let text: String = (1..=110)
        .map(|row| format!("Row {row} of the life jackets hangs beside door {row}, at the height of the rail. "))
        .collect();
    assert!(text.len() > 2 * 3_600);
    let response = demo.speak(json!({"text": text, "voice": "heron/pellin"}), "audio/wav").await;
    assert_eq!(response.status(), 200);
    let id = header(&response, "dispatch-id");
    let audio = response.bytes().await.unwrap();
    assert_eq!(
        words_of(&audio, Format::default()).split_whitespace().collect::<Vec<_>>(),
        text.split_whitespace().collect::<Vec<_>>()
    );
    let dispatch = demo.settled(&id).await;
    assert_eq!(dispatch["state"], "done");
    let calls = dispatch["attempts"].as_array().unwrap().len();
    assert_eq!(demo.delivered().await["calls"], calls);
    assert!((3..=4).contains(&calls), "{calls} calls for {} characters", text.len());
    let cost = format!("0.{:06}", text.trim_end().len() * 16);
    let paid = dispatch["cost"]["amount"].as_str().unwrap();
    assert!(paid.starts_with(&cost[..5]), "{paid} for {cost}");
}

#[tokio::test]
async fn a_dialogue_is_spoken_by_its_voices_with_its_gaps() {
    let demo = Demo::start(BINARY).await;
    let lines = json!([
        {"text": "Is this the boat to Gullsay?"},
        {"text": "It is. The ramp is closing.", "voice": "heron/tarrick", "gap": "800ms"},
    ]);
    let body = json!({"lines": lines, "voice": "heron/pellin", "language": "en-GB"});
    let answer = demo.speak(body, "audio/wav").await;
    assert_eq!(answer.status(), 200);
    let audio = answer.bytes().await.unwrap();
    let (samples, layout) = dispatcher_audio::decode_all(&audio, Format::default()).unwrap();
    let heard = dispatcher_standins::tone::hear(&samples, layout.rate);
    let texts: Vec<&str> = heard.iter().map(|one| one.text.as_str()).collect();
    assert_eq!(texts, ["Is this the boat to Gullsay?", "It is. The ramp is closing."]);
    assert!((heard[0].pitch - heard[1].pitch).abs() > 0.02, "two voices: {} and {}", heard[0].pitch, heard[1].pitch);
    for (lines, pointer) in [
        (json!([]), "/lines"),
        (json!([{"text": "a"}, {"text": " "}]), "/lines/1"),
        (json!([{"text": "a", "gap": "-1s"}]), "/lines/0"),
    ] {
        let refused = demo.speak(json!({"lines": lines, "voice": "heron/pellin"}), "audio/wav").await;
        assert_eq!(refused.status(), 422);
        let problem: Value = refused.json().await.unwrap();
        assert_eq!(problem["errors"][0]["pointer"], pointer, "{problem}");
    }
}

#[tokio::test]
async fn the_language_of_a_text_is_found_out_and_told() {
    let demo = Demo::start(BINARY).await;
    let speak = async |text: &str| -> Value {
        let body = json!({"text": text, "language": "auto"});
        let response = demo.speak(body, "application/json").await;
        assert_eq!(response.status(), 200);
        response.json().await.unwrap()
    };
    let portuguese = "O barco para Gullsay parte do cais dois, e a porta fecha cinco minutos antes da partida.";
    let answer = speak(portuguese).await;
    let warned = |answer: &Value, says: &str| answer["warnings"].to_string().contains(says);
    assert!(warned(&answer, "detected language: pt"), "{}", answer["warnings"]);
    let english = "The boat to Gullsay leaves from berth two, and the gate closes five minutes before.";
    let mixed = speak(&format!("{english}\n\n{portuguese}")).await;
    assert!(warned(&mixed, "other languages"), "{}", mixed["warnings"]);
    assert!(warned(&speak("12:30").await, "(und)"));
}

#[tokio::test]
async fn the_client_takes_a_script_for_one_whatever_stands_before_its_root() {
    let demo = Demo::start(BINARY).await;
    for (name, before) in
        [("a.ssml", ""), ("b.txt", "<?xml version=\"1.0\"?>\n<!-- the gate -->\n"), ("c", "\u{feff}\n")]
    {
        let script = format!(
            "{before}<speak version=\"1.1\" xml:lang=\"en-GB\">The ramp <sub alias=\"is closing\">closes</sub>.</speak>"
        );
        std::fs::write(demo.folder.path().join(name), script).unwrap();
        let output = demo.client(&["speak", "--file", name, "--voice", "heron/pellin", "-o", "said.wav", "--force"]);
        assert!(output.status.success(), "{name}: {output:?}");
        let audio = std::fs::read(demo.folder.path().join("said.wav")).unwrap();
        assert_eq!(words_of(&audio, Format::default()), "The ramp is closing.", "{name}");
    }
}
