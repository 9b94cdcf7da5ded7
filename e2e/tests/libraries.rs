//! The crates as libraries: a program that is no member of the workspace and
//! has one codec of the audio crate alone.

use std::path::Path;
use std::process::Command;

#[test]
fn a_program_elsewhere_makes_an_announcement_by_the_public_interfaces_alone() {
    let manifest = Path::new(env!("CARGO_MANIFEST_DIR")).join("fixtures/announcer/Cargo.toml");
    // What both builds have in common is there already.
    let target = Path::new(crate::BINARY).parent().and_then(Path::parent).unwrap();
    let cargo = std::env::var_os("CARGO").unwrap();
    let run = Command::new(cargo)
        .args(["run", "--quiet", "--locked", "--manifest-path"])
        .arg(&manifest)
        .arg("--target-dir")
        .arg(target)
        .output()
        .unwrap();
    // Where a crate has another dependency now: copy Cargo.lock there, and
    // run the program once by hand, which takes out of it what it does not need.
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    assert_eq!(
        String::from_utf8(run.stdout).unwrap(),
        "document: 1 part, titled Timetable\n\
         audio: 3 pieces, Ogg Opus, 4.20 s\n\
         cost: 0.001280 EUR\n\
         errors: 0.25\n\
         mp3: MP3 is not part of this build\n"
    );
}
