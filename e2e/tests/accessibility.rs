//! Every page of the console is held against the rules of axe (WCAG 2.2 AA and
//! best practices), in both themes and on narrow screens, and is used by
//! keyboard alone.

use crate::BINARY;
use std::path::Path;

use crate::browser::Browser;
use dispatcher_e2e::Demo;
use serde_json::{Value, json};
use thirtyfour::Key;

/// Addresses, and a text by which a page is known to have loaded.
const PAGES: [(&str, &str); 28] = [
    ("/", "Will cost"),
    ("/?mode=script", "Beside each line"),
    ("/voices?search=heron", "Isolde"),
    ("/jobs", "chapters 1 to 3"),
    ("/jobs/JOB", "before-departure.mp3"),
    ("/jobs/prompts", "helpline"),
    ("/jobs/prompts/helpline", "Welcome to"),
    ("/overview", "Newest requests"),
    ("/dispatches", "0.04142 EUR"),
    ("/dispatches/DISPATCH", "flite/awb"),
    ("/usage", "heron"),
    ("/engines", "Heron"),
    ("/engines/heron", "How to get access"),
    ("/engines/heron?tab=details", "Price factor"),
    ("/engines/heron?tab=sheet", "Valid"),
    ("/credentials", "bittern"),
    ("/routes?route=quayside", "What would it do?"),
    ("/apps", "nearly used"),
    ("/apps/helpline", "in total"),
    ("/people", "reads everything and changes nothing"),
    ("/compare", "rated by ear without the names"),
    ("/compare?of=recognisers", "how far they agree"),
    ("/alerts", "No notices yet."),
    ("/captions", "the words appear while you speak"),
    ("/exchange", "The reply hook of the app answers"),
    ("/transcripts", "Kept transcripts, to be corrected"),
    ("/vocabulary", "Words that sound like them"),
    ("/client/example.html", "Hold to talk"),
];
/// The longest page: looked at once in each theme and width, without the keys.
const REFERENCE: (&str, &str) = ("/api/reference", "Speak a text");

/// Remembers what is to be reached: what is seen and is a control, or has a
/// handler of clicks and no control in it or around it.
const MARK_CONTROLS: &str = "
  const seen = (one) => one.checkVisibility({ opacityProperty: false, visibilityProperty: true }) && one.getClientRects().length > 0;
  const control = 'a[href], button:not([disabled]), input:not([disabled]):not([type=file]), textarea:not([disabled]), [role=tab], [role=combobox]';
  const handles = (one) => Object.getOwnPropertySymbols(one).some((name) => name.description === '_vei' && one[name].onClick);
  const all = [...document.querySelectorAll('body *')].filter(seen);
  const stray = all.filter((one) => handles(one) && !one.closest(`${control}, :disabled`) && !one.querySelector(control) && !one.matches('label[for], .v-field, .v-field *'));
  const own = all.filter((one) => one.matches(control) && one.tabIndex >= 0 && one.getAttribute('aria-hidden') !== 'true');
  window.controls = new Set([...own, ...stray]);
  window.reached ??= addEventListener('focusin', (event) => window.controls.delete(event.target)) ?? true;
  document.activeElement?.blur();
";

/// The tables that are wider than the page has room for.
const CUT_TABLES: &str = "
  const wrappers = [...document.querySelectorAll('.v-table__wrapper')];
  return wrappers.filter((one) => one.scrollWidth > one.clientWidth + 1).map((one) => one.innerText.slice(0, 120));
";

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

/// The pages with the ids of this demo's records.
async fn pages(demo: &Demo) -> Vec<(String, &'static str)> {
    let jobs = demo.get("/api/v1/jobs").await;
    let is_document = |job: &&Value| job["work"] == "synthesis";
    let job = jobs["items"].as_array().unwrap().iter().find(is_document).unwrap()["id"].clone();
    let answered = demo.get("/api/v1/dispatches?engine=flite&limit=1").await;
    let dispatch = answered["items"][0]["id"].as_str().unwrap();
    let fill = |page: &str| page.replace("JOB", job.as_str().unwrap()).replace("DISPATCH", dispatch);
    PAGES.iter().chain([&REFERENCE]).map(|(page, text)| (fill(page), *text)).collect()
}

async fn open(browser: &Browser, demo: &Demo, page: &str, text: &str) {
    browser.go(&format!("{}{page}", demo.url)).await;
    browser.until(page, &format!("return document.body.innerText.includes('{text}')")).await;
}

/// Presses of the Tab key that are sent to the browser at once.
const STRIDE: u64 = 12;

/// The controls of a page that the Tab key does not reach.
async fn missed_by_tab(browser: &Browser) -> Value {
    browser.run(MARK_CONTROLS).await;
    let left = async || browser.run("return window.controls.size").await.as_u64().unwrap();
    let presses = left().await * 2 + 20;
    for _ in 0..presses.div_ceil(STRIDE) {
        let tabs = Key::Tab.value().to_string().repeat(STRIDE as usize);
        browser.driver.action_chain().send_keys(tabs).perform().await.unwrap();
        if left().await == 0 {
            break;
        }
    }
    browser.run("return [...window.controls].map((one) => one.outerHTML.slice(0, 200))").await
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_keeps_the_rules_of_accessibility_and_works_by_keyboard() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../console/node_modules/axe-core/axe.min.js");
    let axe =
        std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}: make console", path.display()));
    let demo = Demo::start_with_samples(BINARY).await;
    let browser = Browser::start(None).await;
    browser.go(&format!("{}/sign-in", demo.url)).await;
    browser.find("enter").await;
    assert_eq!(violations(&browser, &axe).await, json!([]), "the sign-in page");
    browser.sign_in(&demo).await;
    let pages = pages(&demo).await;
    for (theme, width) in [("light", 1280), ("dark", 1280), ("light", 400), ("dark", 360)] {
        browser.width(width).await;
        browser.run(&format!("localStorage.setItem('theme', '{theme}')")).await;
        for (page, text) in &pages {
            open(&browser, &demo, page, text).await;
            let over = browser.run("return document.documentElement.scrollWidth - window.innerWidth").await;
            assert!(over.as_i64().unwrap() <= 0, "{page}, {width} pixels wide: {over} pixels are out of sight");
            let cut = browser.run(CUT_TABLES).await;
            assert_eq!(cut, json!([]), "{page}, {width} pixels wide: columns are out of sight");
            // The rules look at colours and elements: each theme, wide and
            // narrow, is met by the other three.
            if width != 400 {
                assert_eq!(violations(&browser, &axe).await, json!([]), "{page}, {theme}, {width} pixels wide");
            }
        }
    }
    browser.width(1280).await;
    for (page, text) in pages.iter().filter(|(page, _)| page != REFERENCE.0) {
        open(&browser, &demo, page, text).await;
        assert_eq!(missed_by_tab(&browser).await, json!([]), "{page}: not reached by the Tab key");
    }
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn small_windows_show_the_whole_rail_and_the_editor_of_scripts() {
    let demo = Demo::start(BINARY).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.size(1280, 640).await;
    open(&browser, &demo, "/", "Will cost").await;
    let hidden = browser
        .run(
            "const foot = document.querySelector('[data-test=account]').getBoundingClientRect().top;
             return [...document.querySelectorAll('nav .entry:not(.account)')]
               .filter((one) => one.getBoundingClientRect().bottom > foot).map((one) => one.innerText)",
        )
        .await;
    assert_eq!(hidden, json!([]), "entries of the rail are under its foot");
    browser.size(400, 800).await;
    open(&browser, &demo, "/?mode=script", "Beside each line").await;
    let seen = browser.run("return document.querySelector('[data-test=script]').clientHeight").await;
    assert!(seen.as_u64().unwrap() > 100, "the editor is {seen} pixels high");
    browser.quit().await;
}
