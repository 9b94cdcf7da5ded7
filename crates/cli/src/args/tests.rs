//! What the papers and the help say to type is what is understood.

use std::path::Path;

use clap::{CommandFactory as _, Parser as _};

use super::Cli;

/// The words of a command line as a shell parts them, up to what the shell
/// keeps for itself: a pipe, a redirection, a remark.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut letters = line.chars().peekable();
    while let Some(letter) = letters.next() {
        match letter {
            '\'' | '"' => {
                let inside: String = letters.by_ref().take_while(|one| *one != letter).collect();
                word.get_or_insert_default().push_str(&inside);
            }
            ' ' => words.extend(word.take()),
            '|' | '>' | '<' | ';' if word.is_none() => return words,
            '#' if word.is_none() => return words,
            '\\' => word.get_or_insert_default().extend(letters.next()),
            other => word.get_or_insert_default().push(other),
        }
    }
    words.extend(word);
    words
}

/// The calls of the client in a text: at the start of a line, behind a pipe,
/// or behind a variable that is set for it.
fn calls(text: &str) -> Vec<Vec<String>> {
    let whole = text.replace("\\\n", " ");
    let mut found = Vec::new();
    for line in whole.lines() {
        let mut line = line.trim().trim_start_matches("$ ");
        while let Some((variable, rest)) = line.split_once(' ')
            && variable
                .split_once('=')
                .is_some_and(|(name, _)| name.chars().all(|c| c.is_ascii_uppercase() || c == '_'))
        {
            line = rest;
        }
        let piped = line.split_once("| dispatcher ").map(|(_, rest)| format!("dispatcher {rest}"));
        let line = piped.as_deref().unwrap_or(line);
        if line.starts_with("dispatcher ") {
            found.push(words(line));
        }
    }
    found
}

/// Content between the fences of a page.
fn fenced(page: &str) -> String {
    page.split("```").skip(1).step_by(2).flat_map(|block| block.split_inclusive('\n').skip(1)).collect()
}

fn understood(call: &[String], source: &str) {
    if let Err(error) = Cli::try_parse_from(call)
        && error.use_stderr()
    {
        panic!("{source}: {}\n{error}", call.join(" "));
    }
}

/// Each command with its whole name.
fn commands(command: &clap::Command, name: &str, out: &mut Vec<(String, clap::Command)>) {
    out.push((name.to_owned(), command.clone()));
    for inner in command.get_subcommands().filter(|inner| inner.get_name() != "help") {
        commands(inner, &format!("{name} {}", inner.get_name()), out);
    }
}

fn all() -> Vec<(String, clap::Command)> {
    let mut root = Cli::command();
    root.build();
    let mut out = Vec::new();
    commands(&root, "dispatcher", &mut out);
    out
}

#[test]
fn every_command_of_the_papers_is_understood() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let guide = std::fs::read_dir(root.join("docs/guide")).expect("the guide");
    let pages = guide.map(|page| page.expect("a page").path()).chain([root.join("README.md")]);
    let mut count = 0;
    for page in pages.filter(|page| page.extension().is_some_and(|it| it == "md")) {
        let text = std::fs::read_to_string(&page).expect("a page");
        for call in calls(&fenced(&text)) {
            understood(&call, &page.display().to_string());
            count += 1;
        }
    }
    assert!(count > 80, "the papers say {count} commands; where are the others?");
}

#[test]
fn every_example_of_the_help_is_understood_and_is_of_its_command() {
    let mut examples = Vec::new();
    for (name, mut command) in all() {
        for call in calls(&command.render_long_help().to_string()) {
            understood(&call, &name);
            examples.push((name.clone(), call.join(" ")));
        }
    }
    // At the command itself, or at the group that it is of.
    let has_one =
        |name: &str| examples.iter().any(|(at, call)| name.starts_with(at.as_str()) && call.starts_with(name));
    let lone = |command: &clap::Command| command.get_subcommands().next().is_none() && !bare(command);
    let without: Vec<String> =
        all().into_iter().filter(|(name, command)| lone(command) && !has_one(name)).map(|(name, _)| name).collect();
    assert!(without.is_empty(), "no example of {}", without.join(", "));
}

/// Whether a command takes nothing but the options that all have.
fn bare(command: &clap::Command) -> bool {
    command
        .get_arguments()
        .filter(|it| !matches!(it.get_id().as_str(), "help" | "version" | "json" | "profile"))
        .count()
        <= 1
}

#[test]
fn every_command_and_option_says_what_it_is_for() {
    Cli::command().debug_assert();
    let mut wrong = Vec::new();
    for (name, command) in all() {
        if command.get_about().is_none_or(|about| about.to_string().is_empty()) {
            wrong.push(name.clone());
        }
        for argument in command.get_arguments().filter(|it| !it.is_hide_set()) {
            let help = argument.get_help().map(ToString::to_string).unwrap_or_default();
            if help.is_empty() || help.ends_with('.') {
                wrong.push(format!("{name} {}: '{help}'", argument.get_id()));
            }
        }
    }
    assert!(wrong.is_empty(), "they say nothing, or a sentence where others say none:\n{}", wrong.join("\n"));
}

#[test]
fn what_is_missing_or_wrong_is_named() {
    let said = |line: &str| match Cli::try_parse_from(words(line)) {
        Err(error) => error.to_string(),
        Ok(_) => panic!("{line} was taken"),
    };
    for (line, names) in [
        ("dispatcher", "Usage: dispatcher"),
        ("dispatcher speek hello", "speak"),
        ("dispatcher speak hello --voize heron/pellin", "--voice"),
        ("dispatcher convert a.wav b.wav --rate brisk", "--rate"),
        ("dispatcher convert a.wav b.wav --channels many", "--channels"),
        ("dispatcher job", "Usage: dispatcher job"),
        ("dispatcher credential add", "<ENGINE>"),
    ] {
        let message = said(line);
        assert!(message.contains(names), "{line}: {message}");
    }
}

#[test]
fn lines_are_parted_as_a_shell_does() {
    assert_eq!(words("a 'b c'  \"d\"e > f"), ["a", "b c", "de"]);
    assert_eq!(words("a # b"), ["a"]);
    assert_eq!(words("a b#c \"\""), ["a", "b#c", ""]);
    assert_eq!(
        calls("KEY=$K dispatcher voices\necho x | dispatcher speak -"),
        [vec!["dispatcher", "voices"], vec!["dispatcher", "speak", "-"]]
    );
}
