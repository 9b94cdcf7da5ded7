//! What must hold before an engine is called, and what is charged after.

use std::sync::Arc;

use crate::support::{TestGateway, app, collect, lines, load, say};
use dispatcher_core::{Criteria, PlanError, Wanted};
use dispatcher_gateway::{Caller, GatewayError, Registry};
use dispatcher_store::{DispatchFilter, Store};
use parking_lot::Mutex;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;

/// An engine that charges by the second, with a voice for everybody and one
/// that was made for one app.
fn sheet(more: &str) -> String {
    format!(
        "sheet = 1\nname = \"gannet\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"http://127.0.0.1:1\"\n\
         [access]\nscheme = \"none\"\n[synthesis]\ncall = \"POST /say\"\ntext = \"{{{{ text }}}}\"\nanswer = \"audio\"\n{more}\
         [synthesis.formats]\npcm = {{ type = \"audio/pcm\", sample_rates = [24000] }}\n\
         [[synthesis.voices]]\nid = \"ada\"\nname = \"Ada\"\nlanguages = [\"en\"]\n\
         [[synthesis.voices]]\nid = \"own\"\nname = \"Own\"\nlanguages = [\"en\"]\norigin = \"custom\"\n\
         [tariff]\nper = \"second\"\nprice = \"0.01\"\n"
    )
}

/// A house with that engine. `seen` is called for each call of it, before it
/// answers with so many milliseconds of audio.
async fn fixture(milliseconds: usize, seen: impl Fn() + Send + Sync + 'static) -> TestGateway {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let seen = Arc::new(seen);
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut request = vec![0; 4_096];
            let _ = stream.read(&mut request).await;
            let seen = seen.clone();
            let _ = tokio::task::spawn_blocking(move || seen()).await;
            let audio = vec![5; milliseconds * 48];
            let head = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: audio/pcm\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
                audio.len()
            );
            let _ = stream.write_all(&[head.as_bytes(), &audio].concat()).await;
        }
    });
    TestGateway::open_with(move |registry: &mut Registry, _| registry.add(load(&sheet(""), "gannet.toml", Some(&url))))
        .await
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engine_is_called_only_once_its_intent_is_committed() {
    let path: Arc<Mutex<Option<std::path::PathBuf>>> = Arc::default();
    let states: Arc<Mutex<Vec<String>>> = Arc::default();
    let (at, seen) = (path.clone(), states.clone());
    let look = move || {
        // Another connection: it sees what is committed, and nothing else.
        let store = Store::open(at.lock().as_ref().unwrap()).unwrap();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let found = runtime.block_on(async {
            let rows = store.dispatches(DispatchFilter { limit: 9, ..Default::default() }).await.unwrap();
            let id = rows.first().expect("the dispatch is on record").id.clone();
            let (row, attempts, ledger) = store.dispatch(id).await.unwrap();
            format!("{} {} {:?}", row.state, attempts[0].state, lines(&ledger))
        });
        seen.lock().push(found);
    };
    let fixture = fixture(500, look).await;
    *path.lock() = Some(fixture.folder.path().join("records.db"));
    let utterance = fixture.speak(say("Ahoy", "gannet/ada")).await;
    collect(utterance.body).await.unwrap();
    let states = states.lock();
    assert_eq!(states.len(), 1);
    assert!(states[0].starts_with("running running [(\"hold\", "), "{states:?}");
}

#[tokio::test]
async fn what_was_made_is_charged_and_not_what_was_estimated() {
    for (milliseconds, nanos) in [(500, 10_000_000), (1_000, 10_000_000), (2_500, 30_000_000), (61_000, 610_000_000)] {
        let fixture = fixture(milliseconds, || ()).await;
        let utterance = fixture.speak(say("Ahoy", "gannet/ada")).await;
        let id = utterance.dispatch.clone();
        collect(utterance.body).await.unwrap();
        let (row, _, ledger) = fixture.settled(&id).await;
        let told = lines(&ledger);
        assert_eq!(told.last().unwrap(), &("settle".to_owned(), nanos), "{milliseconds} ms: {told:?}");
        assert_eq!((row.cost_nanos, row.audio_ms), (nanos, i64::try_from(milliseconds).unwrap()));
        assert_eq!(told.iter().filter(|(kind, _)| kind != "settle").map(|(_, nanos)| nanos).sum::<i64>(), 0);
    }
}

#[tokio::test]
async fn a_voice_that_was_made_for_one_app_is_no_other_apps() {
    let fixture = fixture(500, || ()).await;
    let owner = dispatcher_store::App { custom_voices: Some("gannet/own".into()), ..app("owner") };
    let owner = Caller { app: owner, ..fixture.caller.clone() };
    let utterance = fixture.gateway.speak(&owner, say("Ahoy", "gannet/own")).await.expect("its own voice");
    assert_eq!(utterance.voice, "gannet/own");
    collect(utterance.body).await.unwrap();
    let other = fixture.gateway.speak(&fixture.caller, say("Ahoy", "gannet/own")).await.err().expect("by its id");
    assert!(matches!(other, GatewayError::Plan(PlanError::NoSuchVoice { .. })), "{other}");
    let like = Criteria { name: Some("Own".into()), ..Criteria::default() };
    let request = dispatcher_gateway::SynthesisRequest { wanted: Some(Wanted::Like(like)), ..say("Ahoy", "") };
    assert!(fixture.gateway.speak(&fixture.caller, request).await.is_err(), "nor by what it is like");
    let nearly = dispatcher_store::App { custom_voices: Some("gannet/own-two\ngannet/o".into()), ..app("nearly") };
    let nearly = Caller { app: nearly, ..fixture.caller.clone() };
    assert!(fixture.gateway.speak(&nearly, say("Ahoy", "gannet/own")).await.is_err(), "nor by half a name");
    assert_eq!(fixture.count().await, 1, "nothing was recorded for those");
}
