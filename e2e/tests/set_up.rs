//! The console's pages to set up engines and credentials, and the catalogue
//! by the thousand, in headless Chromium.

use crate::BINARY;
use std::time::Duration;

use crate::browser::Browser;
use dispatcher_e2e::Demo;
use serde_json::{Value, json};
use thirtyfour::By;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

async fn put(demo: &Demo, url: &str, body: Value) {
    assert!(demo.http.put(url).json(&body).send().await.unwrap().status().is_success());
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engine_is_checked_and_its_sheet_mended_where_the_fault_is() {
    let demo = Demo::start(BINARY).await;
    put(&demo, &format!("{}/broken", demo.heron), json!(["fine"])).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/engines", demo.url)).await;
    browser.until("the engines", "return document.querySelectorAll('[data-test=engine-row]').length === 14").await;
    browser.go(&format!("{}/engines/heron?tab=check", demo.url)).await;
    browser.find("check").await.click().await.unwrap();
    browser.until("the matrix", "return document.querySelector('[data-test=summary]') !== null").await;
    let summary = browser.find("summary").await.text().await.unwrap();
    assert!(summary.contains("1 differ"), "{summary}");
    let page = browser.run("return document.querySelector('section[aria-label=Matrix]').innerText").await;
    let page = page.as_str().unwrap();
    assert!(page.contains("fine is no grade") && page.contains("POST /talk/pellin"), "{page}");
    // A fault is told at its line, and cannot be saved.
    browser.go(&format!("{}/engines/heron?tab=sheet", demo.url)).await;
    browser.until("no fault", "return document.body.innerText.includes('● Valid')").await;
    let spoil = "const t = document.querySelector('[data-test=sheet]'); t.value = t.value.replace('answer = \"audio\"', 'answr = \"audio\"'); t.dispatchEvent(new Event('input'))";
    browser.run(spoil).await;
    browser.until("the fault", "return document.querySelector('[data-test=fault]') !== null").await;
    let fault = browser.find("fault").await.text().await.unwrap();
    assert!(fault.contains("answr") && fault.contains("line 27"), "{fault}");
    let disabled = browser.run("return document.querySelector('[data-test=save-sheet]').disabled").await;
    assert_eq!(disabled, json!(true));
    let mend = "const t = document.querySelector('[data-test=sheet]'); t.value = t.value.replace('answr', 'answer').replace('Heron (stand-in)', 'Heron of the marsh'); t.dispatchEvent(new Event('input'))";
    browser.run(mend).await;
    browser.until("no fault", "return document.body.innerText.includes('● Valid')").await;
    browser.find("save-sheet").await.click().await.unwrap();
    browser.until("the new title", "return document.querySelector('h1').innerText === 'Heron of the marsh'").await;
    // An engine out of a pasted command.
    browser.go(&format!("{}/engines", demo.url)).await;
    browser.find("add-engine").await.click().await.unwrap();
    let field = browser.find("command").await.find(By::Tag("textarea")).await.unwrap();
    field.send_keys("curl https://gull.example/say -H 'Authorization: Bearer canary-55' -d '{\"text\":\"hello there\",\"voice\":\"ada\"}' -H 'Content-Type: application/json'").await.unwrap();
    browser.find("draft").await.click().await.unwrap();
    browser
        .until(
            "the draft",
            "return document.querySelector('[data-test=sheet]')?.value.includes('{{ text|json }}') ?? false",
        )
        .await;
    let sheet = browser.run("return document.querySelector('[data-test=sheet]').value").await;
    assert!(!sheet.as_str().unwrap().contains("canary-55"), "{sheet}");
    browser.until("no fault", "return !document.querySelector('[data-test=save-sheet]').disabled").await;
    browser.find("save-sheet").await.click().await.unwrap();
    browser.until("the engine", "return location.pathname === '/engines/gull'").await;
    let state = demo.get("/api/v1/engines/gull").await;
    assert_eq!(state["state"], "absent", "it waits for its credential: {state}");
    browser.quit().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn credentials_are_bound_checked_and_revoked_and_never_shown() {
    let demo = Demo::start(BINARY).await;
    put(&demo, &format!("{}/tokens", demo.heron), json!(["canary-in-the-page"])).await;
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/credentials?add=heron", demo.url)).await;
    let part = browser.find("part-token").await.find(By::Tag("input")).await.unwrap();
    part.send_keys("canary-in-the-page").await.unwrap();
    browser.find("keep-credential").await.click().await.unwrap();
    browser
        .until(
            "it is kept",
            "return document.querySelector('[data-test=told]')?.innerText.includes('is in use, but unproven') ?? false",
        )
        .await;
    let said = demo.speak(json!({"text": "Go", "voice": "heron/pellin"}), "audio/mpeg").await;
    assert_eq!(said.status(), 200);
    let shown = browser.run("return document.documentElement.outerHTML + [...document.querySelectorAll('input')].map((i) => i.value).join()").await;
    assert!(!shown.as_str().unwrap().contains("canary-in-the-page"), "what was typed stays in the page");
    browser.driver.find(By::Css("[aria-label='Check avocet']")).await.unwrap().click().await.unwrap();
    browser
        .until(
            "the trial",
            "return document.querySelector('[data-test=trial]')?.innerText.includes('is safer: manage') ?? false",
        )
        .await;
    browser.driver.find(By::Css("[aria-label='Revoke curlew']")).await.unwrap().click().await.unwrap();
    tokio::time::sleep(Duration::from_millis(500)).await;
    browser
        .driver
        .find(By::XPath("//button[contains(., 'Revoke curlew') or contains(., 'REVOKE CURLEW')][not(@aria-label)]"))
        .await
        .unwrap()
        .click()
        .await
        .unwrap();
    browser
        .until(
            "it is revoked",
            "return document.querySelector('[data-test=told]')?.innerText.includes('is revoked') ?? false",
        )
        .await;
    assert_eq!(demo.get("/api/v1/engines/curlew").await["state"], "absent");
    browser.quit().await;
}

const TAGS: [&str; 3] = ["en-GB", "pt-PT", "ja"];

/// An engine that lists so many voices, five thousand a page.
async fn lister(voices: usize) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut seen = vec![0; 4_096];
            let read = stream.read(&mut seen).await.unwrap_or(0);
            let text = String::from_utf8_lossy(&seen[..read]).into_owned();
            let from = text.split("from=").nth(1).map_or(0, |rest| {
                rest.chars().take_while(char::is_ascii_digit).collect::<String>().parse().unwrap_or(0)
            });
            let end = (from + 5_000).min(voices);
            let one = |n: usize| json!({"id": format!("v{n:06}"), "name": format!("Voice {n}"), "l": TAGS[n % 3]});
            let next = (end < voices).then_some(end);
            let body = json!({"voices": (from..end).map(one).collect::<Vec<_>>(), "next": next}).to_string();
            let head = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\nconnection: close\r\ncontent-length: {}\r\n\r\n",
                body.len()
            );
            let _ = stream.write_all(head.as_bytes()).await;
            let _ = stream.write_all(body.as_bytes()).await;
        }
    });
    url
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hundred_thousand_voices_scroll_and_are_searched() {
    let demo = Demo::start(BINARY).await;
    let url = lister(100_000).await;
    let sheet = format!(
        "sheet = 1\nname = \"many\"\nsite = \"cloud\"\nnetwork = \"private\"\nendpoint = \"{url}\"\n[synthesis]\ncall = \"POST /say\"\nanswer = \"audio\"\n\
         [synthesis.formats]\nmp3 = {{ type = \"audio/mpeg\", sample_rates = [24000] }}\n[catalogue]\ncall = \"GET /v\"\nquery = {{ from = \"{{{{ page or '' }}}}\" }}\n\
         voices = \"$.voices[*]\"\nnext = \"$.next\"\n[catalogue.voice]\nid = \"$.id\"\nname = \"$.name\"\nlanguages = \"$.l\"\n"
    );
    std::fs::write(demo.folder.path().join("many.toml"), sheet).unwrap();
    assert!(demo.client(&["engine", "add", "many.toml"]).status.success());
    let refreshed = demo.client(&["engine", "refresh", "many", "--json"]);
    let changes: Value = serde_json::from_slice(&refreshed.stdout).unwrap();
    assert_eq!(changes["voices"], 100_000);
    let browser = Browser::start(None).await;
    browser.sign_in(&demo).await;
    browser.go(&format!("{}/voices?engine=many", demo.url)).await;
    browser
        .until(
            "all of them",
            "return document.querySelector('[data-test=total]')?.innerText.startsWith('100,000') ?? false",
        )
        .await;
    let rows = browser.run("return document.querySelectorAll('[data-test=voice-row]').length").await.as_u64().unwrap();
    assert!((5..60).contains(&rows), "{rows} rows are drawn");
    let deep = "document.querySelector('.v-virtual-scroll').scrollTop = 64 * 61803; return true";
    browser.run(deep).await;
    browser.until("the row", "return [...document.querySelectorAll('[data-test=voice-row]')].some((r) => r.innerText.includes('many/v061803'))").await;
    let field = browser.find("search").await.find(By::Tag("input")).await.unwrap();
    field.send_keys("v0471").await.unwrap();
    browser
        .until(
            "ten of them",
            "return document.querySelector('[data-test=total]')?.innerText.startsWith('100 ') ?? false",
        )
        .await;
    assert!(
        browser.driver.current_url().await.unwrap().query().unwrap().contains("search=v0471"),
        "the address holds the state"
    );
    browser.quit().await;
}
