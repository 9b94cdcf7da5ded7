//! Every page of the console is held against the rules of axe (WCAG 2.2 AA and
//! best practices), in both themes and on a narrow screen.
#![allow(clippy::unwrap_used, reason = "a test that cannot set up its case has failed")]

mod browser;

use std::path::Path;

use browser::Browser;
use dispatcher_e2e::Demo;
use serde_json::{Value, json};

const BINARY: &str = env!("CARGO_BIN_EXE_dispatcher-under-test");

/// Addresses, and a text by which a page is known to have loaded.
const PAGES: [(&str, &str); 12] = [
    ("/", "Will cost"),
    ("/voices", "Lagoon"),
    ("/jobs", "Drop a document"),
    ("/jobs/prompts", "helpline"),
    ("/jobs/prompts/helpline", "Welcome to"),
    ("/overview", "Newest requests"),
    ("/dispatches", "quayside"),
    ("/usage", "heron"),
    ("/engines", "Heron"),
    ("/engines/heron", "How to get access"),
    ("/credentials", "bittern"),
    ("/api/reference", "Speak a text"),
];

/// The violations of a page: the rule, and where it is broken.
async fn violations(browser: &Browser, axe: &str) -> Value {
    browser.run(axe).await;
    let tags = json!(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]);
    browser
        .run(&format!(
            "window.broken = null; axe.run(document, {{runOnly: {tags}}}).then(found => {{ window.broken = \
             found.violations.map(one => [one.id, one.nodes.map(node => node.html.slice(0, 160))]) }})"
        ))
        .await;
    browser.until("the report of axe", "return window.broken !== null").await;
    browser.run("return window.broken").await
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_keeps_the_rules_of_accessibility() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../console/node_modules/axe-core/axe.min.js");
    let axe =
        std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}: make console", path.display()));
    let demo = Demo::start(BINARY).await;
    demo.speak(json!({"text": "Ahoy", "voice": "quayside"}), "audio/wav").await.bytes().await.unwrap();
    let browser = Browser::start(None).await;
    browser.go(&format!("{}/sign-in", demo.url)).await;
    browser.find("enter").await;
    assert_eq!(violations(&browser, &axe).await, json!([]), "the sign-in page");
    browser.sign_in(&demo).await;
    for (theme, width) in [("light", 1280), ("dark", 1280), ("light", 400)] {
        browser.driver.set_window_rect(0, 0, width, 800).await.unwrap();
        browser.run(&format!("localStorage.setItem('theme', '{theme}')")).await;
        for (page, text) in PAGES {
            browser.go(&format!("{}{page}", demo.url)).await;
            browser.until(page, &format!("return document.body.innerText.includes('{text}')")).await;
            assert_eq!(violations(&browser, &axe).await, json!([]), "{page}, {theme}, {width} pixels wide");
        }
    }
    browser.quit().await;
}
