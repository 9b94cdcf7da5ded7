//! Jobs: pieces that are made once, waits, cancelling, and what is left behind.

use std::time::Duration;

use crate::support::{HERON, ON_TAPE, TestGateway, delivered, host_with_jobs, load, registry, say, weather, words};
use dispatcher_audio::{Codec, Format};
use dispatcher_gateway::{Gateway, JobView, JobWork, NewJob, RootKeys, Track};
use dispatcher_store::{DispatchFilter, Store};

/// heron with room for one sentence.
fn short_heron() -> String {
    HERON.replace("characters = 3600", "characters = 80").replacen("\"heron\"", "\"short\"", 1)
}

async fn fixture() -> TestGateway {
    assert!(HERON.contains("characters = 3600"));
    TestGateway::open_with(|registry, heron| registry.add(load(&short_heron(), "short.toml", Some(heron)))).await
}

fn sentences(from: usize, to: usize) -> String {
    (from..=to).map(|n| format!("Door {n} opens to the left and leads to the car deck below. ")).collect()
}

pub(crate) fn tracks(titles_and_texts: &[(&str, String)], voice: &str) -> NewJob {
    let format = Format::new(Codec::Flac, 24_000);
    let track = |(title, text): &(&str, String)| Track {
        name: None,
        title: (*title).to_owned(),
        request: dispatcher_gateway::SynthesisRequest { format, ..say(text.trim_end(), voice) },
    };
    let tracks = titles_and_texts.iter().map(track).collect();
    NewJob { title: "Doors".into(), work: JobWork::Speech { tracks }, audio: None, webhook: None, warnings: Vec::new() }
}

/// Billionths of the euro that a job has cost.
fn nanos(view: &JobView) -> i64 {
    view.progress.costs.iter().map(|cost| cost.nanos).sum()
}

pub(crate) async fn until(gateway: &Gateway, id: &str, ready: impl Fn(&JobView) -> bool) -> JobView {
    for _ in 0..1_000 {
        let view = gateway.job(id).await.unwrap();
        if ready(&view) {
            return view;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    panic!("the job stays {:?}", gateway.job(id).await.unwrap());
}

fn heard(fixture: &TestGateway, job: &JobView, name: &str) -> String {
    let path = fixture.folder.path().join("jobs").join(&job.row.id).join("files").join(name);
    let audio = std::fs::read(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
    words(&audio, Format::new(Codec::Flac, 24_000))
}

#[tokio::test]
async fn each_track_becomes_a_file_with_the_text_beside_it() {
    let fixture = fixture().await;
    let (first, second) = (sentences(1, 4), sentences(5, 6));
    let job = tracks(&[("Upper deck", first.clone()), ("Lower deck", second.clone())], "short/pellin");
    let id = fixture.gateway.submit(&fixture.caller, job).await.unwrap().row.id;
    let view = until(&fixture.gateway, &id, JobView::is_over).await;
    assert_eq!((view.row.state.name(), view.row.reason.clone()), ("done", None));
    let names: Vec<&str> = view.files.iter().map(|file| file.name.as_str()).collect();
    let sounds = ["001-upper-deck.flac", "001-upper-deck.vtt", "002-lower-deck.flac", "002-lower-deck.vtt"];
    assert_eq!(names[..4], sounds);
    assert_eq!(names[4], "playlist.m3u8");
    let spoken = heard(&fixture, &view, names[0]);
    assert_eq!(spoken.replace(' ', ""), first.replace(' ', ""));
    assert_eq!(heard(&fixture, &view, names[2]).replace(' ', ""), second.replace(' ', ""));
    assert_eq!((view.row.pieces, view.progress.pieces), (6, 6));
    assert_eq!(delivered(&fixture.heron).await["calls"], 6);
    // 1.60 for 100,000 characters of the quick model.
    let characters: i64 = (first.trim_end().chars().count() + second.trim_end().chars().count()) as i64;
    assert!((nanos(&view) - characters * 16_000).abs() < 6 * 16_000, "{} for {characters}", nanos(&view));
    let text =
        std::fs::read_to_string(fixture.folder.path().join("jobs").join(&id).join("files").join(names[1])).unwrap();
    let cues: Vec<&str> = text.split("\n\n").skip(1).collect();
    assert_eq!(cues.len(), 4, "{text}");
    assert!(cues[3].ends_with("Door 4 opens to the left and leads to the car deck below.\n"), "{text}");
    let playlist = fixture.folder.path().join("jobs").join(&id).join("files/playlist.m3u8");
    let playlist = std::fs::read_to_string(playlist).unwrap();
    let lines: Vec<&str> = playlist.lines().collect();
    assert_eq!((lines[0], lines[2], lines[4]), ("#EXTM3U", "001-upper-deck.flac", "002-lower-deck.flac"));
    assert!(lines[1].starts_with("#EXTINF:") && lines[1].ends_with(",Upper deck"), "{playlist}");
    let filter = DispatchFilter { job: Some(id), limit: 10, ..Default::default() };
    assert_eq!(fixture.store.dispatches(filter).await.unwrap().len(), 2, "one for each track");
}

#[tokio::test]
async fn a_job_waits_for_an_engine_that_is_down_and_says_why() {
    let fixture = fixture().await;
    weather(&fixture.heron, "{\"weather\": \"down\", \"calls\": 1}").await;
    let job = tracks(&[("Doors", sentences(1, 2))], "short/pellin");
    let id = fixture.gateway.submit(&fixture.caller, job).await.unwrap().row.id;
    let waiting = until(&fixture.gateway, &id, |view| view.row.state.name() == "waiting").await;
    let why = waiting.row.reason.unwrap();
    assert!(why.contains("short: unavailable") && why.contains("attempt 2 follows in"), "{why}");
    let view = until(&fixture.gateway, &id, JobView::is_over).await;
    assert_eq!((view.row.state.name(), view.row.reason.clone()), ("done", None));
    assert_eq!(delivered(&fixture.heron).await["calls"], 2);
}

#[tokio::test]
async fn a_piece_that_breaks_off_falls_back_alone() {
    let fixture = fixture().await;
    let legs = vec![crate::support::leg("short", Some("pellin")), crate::support::leg("tape", None)];
    fixture
        .gateway
        .put_route(crate::support::route("dock", dispatcher_core::Work::Synthesis, legs), "test")
        .await
        .unwrap();
    // A later call breaks off in its midst.
    weather(&fixture.heron, "{\"weather\": \"drip\", \"pause\": 20, \"calls\": 1}").await;
    let job = tracks(&[("Doors", sentences(1, 3))], "dock");
    let id = fixture.gateway.submit(&fixture.caller, job).await.unwrap().row.id;
    until(&fixture.gateway, &id, |view| view.row.state.name() == "running").await;
    tokio::time::sleep(Duration::from_millis(150)).await;
    weather(&fixture.heron, "{\"weather\": \"half\", \"calls\": 1}").await;
    let view = until(&fixture.gateway, &id, JobView::is_over).await;
    assert_eq!(view.row.state.name(), "done", "{:?}", view.row.reason);
    let spoken = heard(&fixture, &view, "doors.flac");
    assert!(spoken.contains(ON_TAPE), "{spoken}");
    let doors = [1, 2, 3].iter().filter(|n| spoken.contains(&format!("Door {n} opens to the left"))).count();
    assert_eq!(doors, 2, "the other pieces are as they were: {spoken}");
}

#[tokio::test]
async fn cancelling_ends_the_calls_and_the_charges() {
    let fixture = fixture().await;
    weather(&fixture.heron, "{\"weather\": \"drip\", \"pause\": 40}").await;
    let job = tracks(&[("Doors", sentences(1, 40))], "short/pellin");
    let id = fixture.gateway.submit(&fixture.caller, job).await.unwrap().row.id;
    until(&fixture.gateway, &id, |view| view.progress.pieces >= 1).await;
    let view = fixture.gateway.cancel_job(&id).await.unwrap();
    assert_eq!(view.row.state.name(), "cancelled");
    let (made, cost) = (view.progress.pieces, nanos(&view));
    assert!((1..40).contains(&made), "{made} pieces");
    tokio::time::sleep(Duration::from_millis(300)).await;
    let later = fixture.gateway.job(&id).await.unwrap();
    assert_eq!((later.progress.pieces, nanos(&later)), (made, cost));
    // What was under way is paid for, and nothing else.
    let piece = 59 * 16_000;
    assert!(cost >= made * piece && cost <= (made + 2) * 62 * 16_000, "{cost} for {made} pieces");
    assert!(fixture.gateway.remove_job(&id).await.is_ok());
    assert!(!fixture.folder.path().join("jobs").join(&id).exists());
    assert!(fixture.gateway.job(&id).await.is_err());
}

#[tokio::test]
async fn a_service_that_ends_and_starts_again_buys_no_piece_twice() {
    let fixture = fixture().await;
    weather(&fixture.heron, "{\"weather\": \"drip\", \"pause\": 10}").await;
    let text = sentences(1, 12);
    let job = tracks(&[("Doors", text.clone())], "short/pellin");
    let id = fixture.gateway.submit(&fixture.caller, job).await.unwrap().row.id;
    until(&fixture.gateway, &id, |view| view.progress.pieces >= 3).await;
    fixture.gateway.pause_jobs();
    fixture.gateway.finish().await;
    let folder = fixture.folder.path();
    let mut engines = registry(folder, &fixture.heron.url(), &fixture.turnstone.url());
    engines.add(load(&short_heron(), "short.toml", Some(&fixture.heron.url())));
    let store = Store::open(&folder.join("records.db")).unwrap();
    let roots = RootKeys::of_file(&folder.join("root.key")).unwrap();
    let before = store.job_progress(id.clone()).await.unwrap().pieces;
    assert!((3..12).contains(&before), "{before} pieces before the end");
    let again = Gateway::start(store, roots, engines, host_with_jobs(folder)).await.unwrap();
    let view = until(&again, &id, JobView::is_over).await;
    assert_eq!(view.row.state.name(), "done", "{:?}", view.row.reason);
    assert_eq!(heard(&fixture, &view, "doors.flac").replace(' ', ""), text.replace(' ', ""));
    assert_eq!(delivered(&fixture.heron).await["calls"], 12, "each piece once");
    again.finish().await;
}

#[tokio::test]
async fn faults_are_told_before_a_job_is_taken() {
    let fixture = fixture().await;
    let nobody = tracks(&[("Doors", "Door one.".into())], "nobody/x");
    assert!(fixture.gateway.submit(&fixture.caller, nobody).await.is_err());
    let filter = dispatcher_store::JobFilter { limit: 10, ..Default::default() };
    assert!(fixture.gateway.jobs(filter).await.unwrap().is_empty());
}
