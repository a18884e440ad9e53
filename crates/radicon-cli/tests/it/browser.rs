//! The report and the demo's pages in a real browser, driven through WebDriver.
//!
//! Needs `chromedriver` and its browser; where they are not installed the tests are reported as
//! skipped, and fail in CI.
#![cfg(unix)]

use std::fs;
use std::io::{BufRead, BufReader, Lines};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, ChildStdout, Command, Stdio};
use std::time::Duration;

use crate::common::{demo, has, radicon};
use fantoccini::wd::WebDriverCompatibleCommand;
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::{Value, json};

/// The driver and a browser under it; both end with the value.
struct Browser {
    driver: Child,
    /// Kept open, for the driver to write to.
    _output: Lines<BufReader<ChildStdout>>,
    client: Client,
}

impl Browser {
    async fn start(dark: bool) -> Self {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .process_group(0)
            .stdout(Stdio::piped())
            .spawn()
            .expect("the driver starts");
        let mut lines = BufReader::new(driver.stdout.take().expect("its output")).lines();
        let port = lines
            .by_ref()
            .map_while(Result::ok)
            .find_map(|line| {
                line.split_once("successfully on port ").map(|(_, port)| port.trim_end_matches('.').to_owned())
            })
            .expect("it tells its port");
        let mut arguments = vec![
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,900",
        ];
        if dark {
            arguments.push("--blink-settings=preferredColorScheme=0");
        }
        let wanted = json!({ "goog:chromeOptions": { "args": arguments }, "goog:loggingPrefs": { "browser": "ALL" } });
        let Value::Object(wanted) = wanted else { unreachable!() };
        let client = ClientBuilder::new(HttpConnector::new())
            .capabilities(wanted)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await;
        Self { driver, _output: lines, client: client.expect("a browser") }
    }

    async fn open(&self, file: &Path) {
        self.client.goto(&format!("file://{}", file.display())).await.expect("it opens");
    }

    async fn run(&self, script: &str) -> Value {
        self.client.execute(script, Vec::new()).await.unwrap_or_else(|error| panic!("{script}: {error}"))
    }

    async fn text(&self, css: &str) -> String {
        self.client.find(Locator::Css(css)).await.expect(css).text().await.expect("text")
    }

    async fn click(&self, css: &str) {
        // Not beneath the header, which stays where it is.
        self.run(&format!("document.querySelector(\"{css}\").scrollIntoView({{ block: 'center' }})")).await;
        self.client.find(Locator::Css(css)).await.expect(css).click().await.expect("a click")
    }

    async fn type_into(&self, css: &str, text: &str) {
        self.client.find(Locator::Css(css)).await.expect(css).send_keys(text).await.expect("keys")
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // The browser is in the driver's group, also if the test has failed.
        let _ = Command::new("kill").args(["-KILL", "--", &format!("-{}", self.driver.id())]).status();
        let _ = self.driver.wait();
    }
}

/// What the browser has logged since the last call.
#[derive(Debug)]
struct Log;

impl WebDriverCompatibleCommand for Log {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/se/log", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(json!({ "type": "browser" }).to_string()))
    }
}

fn everything() -> Option<(tempfile::TempDir, std::path::PathBuf)> {
    if !has("chromedriver") {
        return None;
    }
    let (dir, site) = demo();
    let page = dir.path().join("report.html");
    let ran = radicon(&site, &["report", "--out", page.to_str().expect("UTF-8")]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    Some((dir, page))
}

#[tokio::test]
async fn the_report_answers_what_its_reader_asks() {
    let Some((_dir, page)) = everything() else { return };
    let browser = Browser::start(false).await;
    browser.open(&page).await;
    assert!(browser.text("#overview").await.contains("Worth doing first"));

    // The matrix: by page, by block, by who gives it.
    let rows = "return [...document.querySelectorAll('#matrix tbody th')].map(row => row.textContent)";
    assert_eq!(browser.run(rows).await.as_array().map(Vec::len), Some(9));
    browser.type_into("#block-page", "vehi").await;
    assert_eq!(browser.run(rows).await, json!(["booking/vehicle.html"]));
    browser.run("document.getElementById('block-page').value = ''").await;
    let choose = |state: &str| {
        format!(
            "const it = document.getElementById('block-state'); it.value = '{state}'; it.dispatchEvent(new Event('input'))"
        )
    };
    browser.run(&choose("lost")).await;
    assert_eq!(browser.run(rows).await, json!(["booking/vehicle.html"]));
    let lost = browser.run("return document.querySelector('#matrix td.wanted span').title").await;
    assert_eq!(lost, json!("feilds: lost: booking/vehicle.html, line 5"));
    browser.run(&choose("unfilled")).await;
    assert_eq!(browser.run(rows).await, json!([]));

    // From the map to a layout's file, from there to a page's inside.
    browser.click("#map-now a.layout[data-file='booking/step.html']").await;
    assert_eq!(browser.text("#page-name").await, "booking/step.html");
    browser.type_into("#page-search", "passengers").await;
    browser.click("#page-list a").await;
    assert_eq!(browser.text("#page-name").await, "booking/passengers.html");
    assert_eq!(browser.text("#page-chain").await.matches('→').count(), 2);
    let origins = "return [...new Set([...document.querySelectorAll('#page-source span span')].map(it => it.title.split(':')[0]))].sort()";
    let origins = browser.run(origins).await;
    for file in ["booking/base.html", "booking/step.html", "booking/passengers.html", "booking/parts/masthead.html"] {
        assert!(origins.as_array().expect("a list").contains(&json!(file)), "{file}: {origins}");
    }

    // The preview, as it is and as proposed, with the site's own styles.
    browser.open(&page).await;
    browser.run("location.hash = '#page=fares.html'").await;
    let preview = "return document.getElementById('page-frame').srcdoc";
    let before = browser.run(preview).await;
    assert!(before.as_str().expect("a page").contains("<style>"), "{before}");
    let shown = browser.run("return document.querySelectorAll('#page-source > div').length").await;
    browser.click("input[value=after]").await;
    let after = browser.run(preview).await;
    assert!(after.as_str().expect("a page").contains("Fares"));
    assert!(browser.text("#page-proof").await.starts_with("Verified"));
    assert!(browser.text("#page-chain").await.contains("layouts/base.html"), "the proposed chain is told");
    assert!(browser.text("#page-blocks").await.contains("fares.html:"), "and who gives each block in it");
    browser.click("#map-proposed a.layout[data-file='layouts/harbours.html']").await;
    assert_eq!(browser.text("#page-name").await, "layouts/harbours.html");
    assert!(shown.as_u64() > Some(40), "{shown}");

    // Findings by severity.
    let warnings = "return [...document.querySelectorAll('.findings > li')].filter(it => it.offsetParent).length";
    let all = browser.run(warnings).await.as_u64();
    browser.click("#severities input[value=hint]").await;
    assert_eq!((all, browser.run(warnings).await.as_u64()), (Some(8), Some(1)));

    // A group of repeats opens, and its differences are marked.
    browser.click(".repeat summary").await;
    assert!(browser.run("return document.querySelectorAll('.repeat[open] mark').length").await.as_u64() > Some(0));

    let log = browser.client.issue_cmd(Log).await.expect("a log");
    assert_eq!(log, json!([]), "the browser complains");
    let loaded = browser.run("return performance.getEntriesByType('resource').map(it => it.name)").await;
    assert_eq!(loaded, json!([]), "something was loaded");
}

/// What stands in a template need be no URL.
#[tokio::test]
async fn pages_with_tags_in_their_addresses_are_shown() {
    if !has("chromedriver") {
        return;
    }
    let (dir, site) = demo();
    let links = "<link rel=stylesheet href=\"{% static 'a.css' %}\"><link rel=stylesheet href=\"http://[\"><link rel=stylesheet href=\"https://elsewhere.example/css/tidewater.css\">";
    let odd = format!(
        "<!DOCTYPE html><title>Odd</title>{links}<link rel=stylesheet href=\"../css/tidewater.css\"><p>Seen <img src=\"/none.png\" alt=\"A boat\"></p>"
    );
    fs::write(site.join("harbours/100% odd.html"), odd).expect("a page");
    let page = dir.path().join("report.html");
    assert_eq!(radicon(&site, &["report", "--out", page.to_str().expect("UTF-8")]).code, 0);
    let browser = Browser::start(false).await;
    browser.open(&page).await;
    browser.type_into("#page-search", "odd").await;
    browser.click("#page-list a").await;
    assert_eq!(browser.text("#page-name").await, "harbours/100% odd.html");
    let preview = browser.run("return document.getElementById('page-frame').srcdoc").await;
    let preview = preview.as_str().expect("a page");
    assert!(preview.contains("Seen") && !preview.contains("none.png"), "{preview}");
    assert_eq!(preview.matches("<style>").count(), 1, "only the site's own style sheet: {preview}");
    browser.run("location.hash = '#page=%'").await;
    assert_eq!(browser.client.issue_cmd(Log).await.expect("a log"), json!([]), "the browser complains");
}

/// Names, contrast and order, checked in the page itself; gives what is wrong.
const ACCESSIBLE: &str = r#"
const wrong = [];
const seen = (it) => it.getClientRects().length > 0 && getComputedStyle(it).visibility !== "hidden";
const name = (it) => (it.getAttribute("aria-label") || it.textContent.trim() || it.getAttribute("title") ||
  (it.labels && [...it.labels].map(label => label.textContent.trim()).join(" ")) || "").trim();
const what = (it) => it.outerHTML.slice(0, 90);
for (const it of document.querySelectorAll("a, button, input, select, summary, iframe, [role=region], [tabindex]"))
  if (seen(it) && !name(it) && !it.getAttribute("aria-labelledby")) wrong.push("no name: " + what(it));
for (const it of document.querySelectorAll("[tabindex]")) if (it.tabIndex > 0) wrong.push("order: " + what(it));
const ids = [...document.querySelectorAll("[id]")].map(it => it.id);
for (const id of ids) if (ids.indexOf(id) !== ids.lastIndexOf(id)) wrong.push("id twice: " + id);
let level = 0;
for (const it of document.querySelectorAll("h1, h2, h3, h4")) {
  if (Number(it.tagName[1]) > level + 1) wrong.push("heading skips a level: " + what(it));
  level = Number(it.tagName[1]);
}
for (const landmark of ["header", "nav", "main", "footer"]) if (!document.querySelector(landmark)) wrong.push("no " + landmark);
if (!document.documentElement.lang) wrong.push("no language");
const rgb = (text) => (text.match(/[\d.]+/g) || []).map(Number);
const light = (c) => { const l = c.slice(0, 3).map(v => (v /= 255) <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4); return 0.2126 * l[0] + 0.7152 * l[1] + 0.0722 * l[2]; };
const ground = (it) => { for (; it; it = it.parentElement) { const c = rgb(getComputedStyle(it).backgroundColor); if (c.length === 3 || c[3] === 1) return c; } return [255, 255, 255]; };
let compared = 0;
const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
for (let text; text = walk.nextNode();) {
  const it = text.parentElement;
  if (!text.data.trim() || !seen(it) || it.closest("script, style, svg")) continue;
  const [a, b] = [light(rgb(getComputedStyle(it).color)), light(ground(it))].sort((x, y) => y - x);
  const contrast = (a + 0.05) / (b + 0.05);
  compared += 1;
  if (contrast < 4.5) wrong.push(`contrast ${contrast.toFixed(2)}: ` + what(it));
}
if (compared < 100) wrong.push("nothing compared");
return [...new Set(wrong)];
"#;

#[tokio::test]
async fn the_report_can_be_read_by_everybody_in_light_and_dark() {
    let Some((_dir, page)) = everything() else { return };
    for dark in [false, true] {
        let browser = Browser::start(dark).await;
        browser.open(&page).await;
        let is_dark = browser.run("return matchMedia('(prefers-color-scheme: dark)').matches").await;
        assert_eq!(is_dark, json!(dark));
        browser.run("for (const it of document.querySelectorAll('details')) it.open = true").await;
        assert_eq!(browser.run(ACCESSIBLE).await, json!([]), "dark: {dark}");
        // What is wrong is seen.
        browser.run("document.querySelector('h2').style.color = getComputedStyle(document.body).backgroundColor").await;
        assert_eq!(browser.run(ACCESSIBLE).await.as_array().map(Vec::len), Some(1));

        // Tabbing goes through the page from top to bottom, and first to the report itself.
        let mut places = Vec::new();
        browser.open(&page).await;
        for _ in 0..12 {
            browser.client.active_element().await.expect("it").send_keys("\u{e004}").await.expect("keys");
            places.push(
                browser
                    .run("return [...document.querySelectorAll('*')].indexOf(document.activeElement)")
                    .await
                    .as_u64(),
            );
        }
        assert_eq!(
            browser.run("document.querySelector('.skip').focus(); return document.activeElement.textContent").await,
            json!("Skip to the report")
        );
        assert!(places.windows(2).all(|pair| pair[0] < pair[1]), "{places:?}");
    }
}

/// The check that developers do by eye: each page looks as it did before.
#[tokio::test]
async fn adopted_pages_look_the_same_pixel_by_pixel() {
    if !has("chromedriver") {
        return;
    }
    let (dir, site) = demo();
    let put_together = |name: &str| {
        let into = dir.path().join(name);
        let ran = radicon(&site, &["flatten", "--all", "--into", into.to_str().expect("UTF-8")]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        into
    };
    let before = put_together("before");
    let adopted = radicon(&site, &["adopt"]);
    assert_eq!(adopted.code, 0, "{}", adopted.err);
    let after = put_together("after");
    assert!(fs::read_to_string(site.join("fares.html")).expect("a page").len() < 1_500);

    let browser = Browser::start(false).await;
    let picture = async |folder: &Path, page: &str| {
        // Absolute addresses start at the folder.
        let file = folder.join(page);
        let text = fs::read_to_string(&file).expect("a page");
        let rooted = text.replace("href=\"/", &format!("href=\"file://{}/", folder.display()));
        fs::write(&file, rooted).expect("a file");
        browser.open(&file).await;
        // A browser that has hardly shown the page yet says so, and is asked again.
        for _ in 0..20 {
            match browser.client.screenshot().await {
                Ok(picture) => return picture,
                Err(_) => std::thread::sleep(Duration::from_millis(500)),
            }
        }
        panic!("no picture of {page}");
    };
    let mut pictures = Vec::new();
    for page in [
        "index",
        "fares",
        "timetable",
        "winter",
        "fleet",
        "contact",
        "harbours/heronsea",
        "harbours/index",
        "booking/pay",
    ] {
        let page = format!("{page}.html");
        let (old, new) = (picture(&before, &page).await, picture(&after, &page).await);
        assert!(old == new, "{page} looks different");
        assert!(!pictures.contains(&old), "{page} looks like another page: is it shown at all?");
        pictures.push(old);
    }
}

/// Three pages of each of two depths, with a style sheet and a picture.
fn handbook() -> tempfile::TempDir {
    let dir = tempfile::tempdir().expect("a folder");
    let write = |path: &str, text: &str| {
        let path = dir.path().join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(path, text).expect("a file");
    };
    write("style/book.css", "h1 { color: rgb(1, 2, 3) }");
    write("style/mark.svg", "<svg xmlns='http://www.w3.org/2000/svg' width='30' height='20'></svg>");
    for (folder, up) in [("", ""), ("lamps/old/", "../../")] {
        for number in 1..=3 {
            let page = format!(
                "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n  <title>Lamp {number} {folder}</title>\n  \
                 <link rel=\"stylesheet\" href=\"{up}style/book.css\">\n</head>\n<body>\n  <h1>The lamp keeper's handbook</h1>\n  \
                 <img src=\"{up}style/mark.svg\" alt=\"The keepers' mark\">\n  <main>\n    <p>Wick {number}, {folder}trimmed in the morning.</p>\n  \
                 </main>\n  <p><a href=\"{up}index.html\">To the first page of the handbook</a></p>\n</body>\n</html>\n"
            );
            write(&format!("{folder}lamp-{number}.html"), &page);
        }
    }
    dir
}

#[tokio::test]
async fn a_layout_opens_with_its_styles_and_pictures() {
    if !has("chromedriver") {
        return;
    }
    let dir = handbook();
    let results = tempfile::tempdir().expect("a folder");
    let (into, out) = (results.path().join("proposed"), results.path().join("finished"));
    let ran = radicon(dir.path(), &["propose", "--into", into.to_str().expect("UTF-8")]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    let browser = Browser::start(false).await;
    let shown =
        "return [getComputedStyle(document.querySelector('h1')).color, document.querySelector('img').naturalWidth]";
    browser.open(&into.join("layouts/base.html")).await;
    assert_eq!(browser.run(shown).await, json!(["rgb(1, 2, 3)", 30]));
    let home = browser.run("return document.querySelector('a').href").await;
    assert!(home.as_str().is_some_and(|url| url.ends_with("/proposed/index.html")), "{home}");
    // And so do the pages, put together.
    let ran = radicon(&into, &["flatten", "--all", "--into", out.to_str().expect("UTF-8")]);
    assert_eq!(ran.code, 0, "{}{}", ran.out, ran.err);
    browser.open(&out.join("lamps/old/lamp-1.html")).await;
    let urls = "return [...document.querySelectorAll('link, img, a')].map(e => e.getAttribute('href') || e.getAttribute('src'))";
    assert_eq!(browser.run(urls).await, json!(["../../style/book.css", "../../style/mark.svg", "../../index.html"]));
}
