//! The pages in Debian's Chromium: the walk from sign-in to the printed sheet at desk and phone
//! width, the same with the keyboard alone, and axe-core on every page.

use super::server::Server;
use fantoccini::key::Key;
use fantoccini::wd::{Capabilities, PrintConfigurationBuilder, PrintMargins, PrintSize};
use fantoccini::{Client, ClientBuilder, Locator};
use std::net::TcpListener;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

const AXE: &str = include_str!("../vendor/axe.min.js");

/// ChromeDriver with one browser; both end with this value.
pub struct Browser {
    driver: Child,
    pub client: Client,
    profile: std::sync::Arc<tempfile::TempDir>,
}

impl Browser {
    pub async fn open(width: u32, height: u32) -> Self {
        Self::open_with(width, height, std::sync::Arc::new(tempfile::tempdir().unwrap())).await
    }

    /// Closes the browser and opens another with the same profile: what it kept is there.
    pub async fn reopen(self, width: u32, height: u32) -> Self {
        let profile = std::sync::Arc::clone(&self.profile);
        self.close().await;
        Self::open_with(width, height, profile).await
    }

    #[allow(clippy::zombie_processes, reason = "close() waits; a panic ends the test run")]
    async fn open_with(width: u32, height: u32, profile: std::sync::Arc<tempfile::TempDir>) -> Self {
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed; bin/test installs chromium-driver");
        let mut arguments: Vec<String> = [
            "--headless",
            "--disable-gpu",
            "--disable-dev-shm-usage",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--no-first-run",
            "--no-sandbox",
            "--disable-quic",
        ]
        .map(str::to_owned)
        .into();
        arguments.push(format!("--user-data-dir={}", profile.path().display()));
        let mut options = serde_json::json!({ "args": arguments });
        if width < 500 {
            // A desktop window cannot be this narrow.
            options["mobileEmulation"] = serde_json::json!({
                "deviceMetrics": { "width": width, "height": height, "pixelRatio": 1.0 }
            });
        }
        let mut capabilities = Capabilities::new();
        capabilities.insert("goog:chromeOptions".into(), options);
        for _ in 0..100 {
            let connected = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
                .capabilities(capabilities.clone())
                .connect(&format!("http://127.0.0.1:{port}"))
                .await;
            if let Ok(client) = connected {
                if width >= 500 {
                    client.set_window_size(width, height).await.unwrap();
                }
                return Self { driver, client, profile };
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("chromedriver does not answer")
    }

    pub async fn close(mut self) {
        let _ = self.client.clone().close().await;
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

/// What a person does on a page.
pub struct Page<'a>(pub &'a Client);

impl Page<'_> {
    pub async fn css(&self, selector: &str) -> fantoccini::elements::Element {
        self.0
            .wait()
            .at_most(Duration::from_secs(10))
            .for_element(Locator::Css(selector))
            .await
            .unwrap_or_else(|error| panic!("{selector}: {error}"))
    }

    pub async fn fill(&self, name: &str, text: &str) {
        let field = self.css(&format!("[name={name}]")).await;
        // What is folded is opened first, as a person would.
        self.script(&format!(
            "const d = document.querySelector('[name={name}]').closest('details'); if (d) d.open = true;"
        ))
        .await;
        field.clear().await.unwrap();
        field.send_keys(text).await.unwrap();
    }

    pub async fn choose(&self, name: &str, value: &str) {
        self.css(&format!("select[name={name}]")).await.select_by_value(value).await.unwrap();
    }

    pub async fn click(&self, selector: &str) {
        let element = self.css(selector).await;
        // As a reader would: what a bar at the bottom covers is scrolled to first.
        let argument = serde_json::to_value(&element).unwrap();
        self.0.execute("arguments[0].scrollIntoView({ block: 'center' })", vec![argument]).await.unwrap();
        element.click().await.unwrap();
    }

    pub async fn heading(&self) -> String {
        // By script: an element found on the page that is just being left would be stale.
        self.script("return document.querySelector('h1')?.innerText ?? ''").await.as_str().unwrap().to_owned()
    }

    /// Waits until the heading has a text.
    pub async fn heading_with(&self, part: &str) {
        for _ in 0..300 {
            if self.heading().await.contains(part) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("the heading is \"{}\", not \"{part}\"", self.heading().await)
    }

    pub async fn text(&self) -> String {
        self.script("return document.body.innerText").await.as_str().unwrap().to_owned()
    }

    pub async fn script(&self, script: &str) -> serde_json::Value {
        self.0.execute(script, vec![]).await.unwrap()
    }

    /// Whether a script says true; one that fails on a page still being built says not yet.
    pub async fn holds(&self, script: &str) -> bool {
        self.0.execute(script, vec![]).await.is_ok_and(|value| value == true)
    }

    /// No finding of axe-core that is serious or critical, and nothing wider than the window.
    pub async fn sound(&self, what: &str) {
        assert_eq!(self.faults(what, true).await, Vec::<String>::new());
    }

    /// What is wrong with the page as it stands; with `grave` only what axe-core calls serious or critical.
    pub async fn faults(&self, what: &str, grave: bool) -> Vec<String> {
        self.script(AXE).await;
        let findings = self
            .0
            .execute_async(
                "const [grave, done] = arguments; axe.run().then((r) => done(r.violations\
                 .filter((v) => !grave || v.impact === 'serious' || v.impact === 'critical')\
                 .map((v) => v.id + ': ' + v.nodes.map((n) => n.target + ' ' + n.failureSummary).slice(0, 3).join(' | '))));",
                vec![grave.into()],
            )
            .await
            .unwrap();
        let findings: Vec<String> = serde_json::from_value(findings).unwrap();
        let mut faults: Vec<String> =
            findings.into_iter().map(|finding| format!("{what}: {finding}")).collect();
        let wider = self.script("return document.documentElement.scrollWidth - window.innerWidth").await;
        if wider.as_i64().unwrap() > 0 {
            faults.push(format!("{what} is {wider} px wider than the window"));
        }
        faults
    }

    /// A4 and US Letter, in centimetres.
    pub async fn prints_on_one_page(&self) {
        for (name, width, height) in [("A4", 21.0, 29.7), ("Letter", 21.59, 27.94)] {
            let print = PrintConfigurationBuilder::default()
                .size(PrintSize { width, height })
                .margins(PrintMargins { top: 1.1, bottom: 1.1, left: 1.1, right: 1.1 })
                .build()
                .unwrap();
            let pdf = self.0.print(print).await.unwrap();
            assert_eq!(pages(&pdf), 1, "{name}");
        }
    }

    pub async fn goto(&self, server: &Server, path: &str) {
        self.0.goto(&format!("{}{path}", server.url)).await.unwrap();
    }

    /// Address of a zone of the first site, by its name.
    pub async fn zone_path(&self, server: &Server, name: &str) -> String {
        self.goto(server, "/sites/1/zones").await;
        let script = format!(
            "return [...document.querySelectorAll('td a')].find(a => a.innerText.includes('{name}')).getAttribute('href')"
        );
        self.script(&script).await.as_str().unwrap().to_owned()
    }

    pub async fn sign_in(&self, server: &Server, login: &str) {
        self.0.goto(&format!("{}/sign-in", server.url)).await.unwrap();
        self.fill("login", login).await;
        self.fill("password", "larkrigg-demo").await;
        self.click("form.entry button").await;
        self.heading_with("Round").await;
    }
}

/// Two summer months by day, dry at the end.
fn weather_file() -> tempfile::NamedTempFile {
    let file = tempfile::Builder::new().suffix(".csv").tempfile().unwrap();
    let mut text = String::from("date,tmin_c,tmax_c,rain_mm,wind_m_s\n");
    for day in 1..=30 {
        text.push_str(&format!(
            "2026-06-{day:02},{},22.{},{},1.{}\n",
            8 + day % 3,
            day % 4,
            if day % 9 == 0 { 12 } else { 0 },
            7 + day % 3
        ));
    }
    for day in 1..=14 {
        text.push_str(&format!("2026-07-{day:02},{},26.{},0,1.{}\n", 11 + day % 3, day % 4, 7 + day % 3));
    }
    std::fs::write(file.path(), text).unwrap();
    file
}

/// From sign-in through a new site, zones and an import to the printed sheet.
// Long: one story, told to its end.
async fn walk(width: u32, height: u32) {
    let server = Server::several(true);
    let browser = Browser::open(width, height).await;
    let page = Page(&browser.client);
    page.0.goto(&server.url).await.unwrap();
    page.sound("sign-in").await;
    page.sign_in(&server, "bram").await;
    page.sound("sites").await;

    page.click("a[href='/sites/new']").await;
    page.fill("name", "Tarnside Nursery").await;
    page.fill("latitude", "95").await;
    page.fill("longitude", "-30").await;
    page.fill("elevation", "1040").await;
    page.fill("time_zone", "Etc/GMT+1").await;
    page.click("form.survey button.is-primary").await;
    page.css(".message.is-danger").await;
    let error = page.script("return document.getElementById('latitude-error').innerText").await;
    assert!(error.as_str().unwrap().contains("between -89 and 89"), "{error}");
    assert_eq!(page.script("return document.getElementById('name').value").await, "Tarnside Nursery");
    page.sound("a refused site form").await;
    page.fill("latitude", "46").await;
    page.click("form.survey button.is-primary").await;

    page.heading_with("New zone").await;
    page.sound("zone form").await;
    page.fill("name", "Bench lawn").await;
    page.choose("head", "rotor").await;
    let default = page.css("[name=rate]").await.attr("placeholder").await.unwrap();
    assert_eq!(default.as_deref(), Some("14.65"), "the default follows the heads");
    page.fill("area", "80").await;
    page.click("button[value=another]").await;
    page.css(".flash").await;
    page.heading_with("New zone").await;
    page.fill("name", "Clay slope").await;
    page.choose("plant", "warm_season_turf").await;
    page.choose("soil", "clay").await;
    page.fill("slope", "18").await;
    page.click("form.survey button.is-primary").await;
    page.heading_with("Zones").await;
    page.sound("zones").await;

    page.click("[data-key='1']").await;
    page.heading_with("What the controller is set to is not known.").await;
    assert!(page.text().await.contains("No weather yet"));
    assert!(page.text().await.contains("Enter what it is set to"));
    page.sound("Today without weather").await;

    page.click("[data-key='9']").await;
    let file = weather_file();
    page.css("#file").await.send_keys(file.path().to_str().unwrap()).await.unwrap();
    page.click("form .button.is-primary").await;
    page.heading_with("44 days in").await;
    assert!(page.text().await.contains("44 new, 0 differ"));
    page.sound("preview").await;
    page.click("form .button.is-primary").await;
    page.heading_with("is in the record").await;
    page.sound("import done").await;

    page.click("a.is-primary").await;
    page.heading_with("tonight").await;
    let evening = page.0.current_url().await.unwrap().join("?date=2026-07-13").unwrap();
    page.0.goto(evening.as_str()).await.unwrap();
    page.heading_with("tonight").await;
    page.sound("Today").await;
    page.script("document.documentElement.dataset.theme = 'dark'").await;
    page.sound("Today in the dark").await;

    let sheet = format!(
        "{}/sheet?date=2026-07-13",
        page.0.current_url().await.unwrap().as_str().split("/today").next().unwrap()
    );
    page.0.goto(&sheet).await.unwrap();
    page.heading_with("Tarnside Nursery").await;
    page.script("document.documentElement.dataset.theme = 'light'").await;
    page.sound("controller sheet").await;
    let text = page.text().await;
    for part in [
        "Program for tonight",
        "Power off before",
        "plant coefficient",
        "Monday 13 July 2026",
        "site version",
    ] {
        assert!(text.contains(part), "{part}");
    }
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn from_sign_in_to_the_sheet_at_a_desk() {
    walk(1280, 800).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn from_sign_in_to_the_sheet_on_a_phone() {
    walk(360, 780).await;
}

/// Pages of a printed PDF.
fn pages(pdf: &[u8]) -> usize {
    let text = String::from_utf8_lossy(pdf);
    text.matches("/Type /Page\n").count().max(text.matches("/Type /Page ").count())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_of_twelve_zones_prints_on_one_page() {
    let server = Server::several(true);
    let person = super::http::Person::signed_in(&server, "isla");
    let mut site: serde_json::Value = serde_json::from_str(&person.get("/sites/1/site.json").text).unwrap();
    let zones = site["zones"].as_array_mut().unwrap();
    for number in 9..=12 {
        let mut zone = zones[2].clone();
        zone["number"] = number.into();
        zone["name"] = format!("Terrace bed with a long name {number}").into();
        zones.push(zone);
    }
    let opened = person.upload("/", "/sites/open", "twelve.json", site.to_string().as_bytes());
    let id = opened.headers["location"].split('/').nth(2).unwrap().to_owned();

    let browser = Browser::open(1280, 800).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "isla").await;
    page.0.goto(&format!("{}/sites/{id}/sheet", server.url)).await.unwrap();
    page.heading_with("Larkrigg").await;
    page.prints_on_one_page().await;
    // And the sheet of its controller, with the week, sensors and telephone numbers.
    page.0.goto(&format!("{}/sites/{id}/controllers/1/sheet", server.url)).await.unwrap();
    page.heading_with("Potting shed").await;
    page.prints_on_one_page().await;
    browser.close().await;
}

/// Sends a key to whatever has the focus.
pub async fn press(page: &Page<'_>, key: impl Into<String>) {
    let key: String = key.into();
    // The element may go with its page between the two calls; then the key goes to the new page.
    for _ in 0..5 {
        if let Ok(active) = page.0.active_element().await
            && active.send_keys(&key).await.is_ok()
        {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    tokio::time::sleep(Duration::from_millis(60)).await;
}

pub fn key(key: Key) -> String {
    char::from(key).to_string()
}

/// Tabs until the focus is on what a selector names.
async fn tab_to(page: &Page<'_>, selector: &str) {
    for _ in 0..80 {
        press(page, key(Key::Tab)).await;
        let there = page
            .0
            .execute("return document.activeElement.matches(arguments[0])", vec![selector.into()])
            .await
            .unwrap();
        if there == serde_json::json!(true) {
            return;
        }
    }
    panic!("the keyboard does not reach {selector}")
}

// Long: one key after another.
#[tokio::test(flavor = "multi_thread")]
async fn the_keyboard_alone_is_enough() {
    let server = Server::several(true);
    let browser = Browser::open(1280, 800).await;
    let page = Page(&browser.client);
    page.0.goto(&format!("{}/sign-in", server.url)).await.unwrap();
    page.css("#login").await;
    press(&page, "bram").await;
    tab_to(&page, "#password").await;
    press(&page, "larkrigg-demo").await;
    press(&page, key(Key::Enter)).await;
    page.heading_with("Round").await;

    // Find a site by the slash key.
    press(&page, "/").await;
    press(&page, "botanic").await;
    page.css(".find .dropdown-item").await;
    press(&page, key(Key::Down)).await;
    press(&page, key(Key::Enter)).await;
    page.heading_with("The controller will run").await;

    // A number opens to its derivation and closes again.
    tab_to(&page, "button.why[popovertarget^=w-will]").await;
    press(&page, key(Key::Enter)).await;
    page.css(".working:popover-open").await;
    let open = page.script("return document.querySelector('.working:popover-open').innerText").await;
    assert!(open.as_str().unwrap().contains("Applied"), "{open}");
    press(&page, key(Key::Escape)).await;
    page.css("body:not(:has(.working:popover-open))").await;

    // Weeks: by bracket, and by arrows on the ribbon.
    press(&page, "[").await;
    page.css("input[value='7 Jul 2026']").await;
    press(&page, "]").await;
    page.css("input[value='14 Jul 2026']").await;
    tab_to(&page, ".weeks a[aria-current]").await;
    press(&page, key(Key::Left)).await;
    press(&page, key(Key::Enter)).await;
    page.css("input[value='7 Jul 2026']").await;

    // The list of keys, the chapters, a zone saved.
    press(&page, "?").await;
    page.css("dialog.keys[open]").await;
    // Single keys can be switched off, and on again.
    page.click("dialog.keys button[type='button']").await;
    press(&page, key(Key::Escape)).await;
    press(&page, "2").await;
    press(&page, "?").await;
    assert!(page.script("return document.querySelector('dialog.keys[open]') === null").await == true);
    page.click("footer button[x-on\\:click='keys']").await;
    page.click("dialog.keys button[type='button']").await;
    press(&page, key(Key::Escape)).await;
    press(&page, "2").await;
    page.heading_with("Zones").await;
    tab_to(&page, "table a").await;
    press(&page, key(Key::Enter)).await;
    page.heading_with("1 Upper lawn").await;
    tab_to(&page, "a[href$='/survey']").await;
    press(&page, key(Key::Enter)).await;
    tab_to(&page, "details.group summary").await;
    press(&page, key(Key::Enter)).await;
    tab_to(&page, "[name=uniformity]").await;
    press(&page, format!("{}{}", key(Key::Backspace).repeat(4), "71")).await;
    press(&page, key(Key::Enter)).await;
    page.heading_with("Zones").await;
    assert!(page.text().await.contains("is saved"));
    press(&page, "3").await;
    page.heading_with("Potting shed").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_of_the_demo_is_sound() {
    let server = Server::several(true);
    let browser = Browser::open(1280, 800).await;
    let page = Page(&browser.client);
    page.sign_in(&server, "isla").await;
    for path in [
        "/people",
        "/sites/2/today",
        "/sites/3/today",
        "/sites/4/today",
        "/sites/1/edit",
        "/sites/1/weather",
        "/cards",
        "/cards/new",
        "/ordinances",
        "/ordinances/new",
        "/sites/3/controllers/1",
        "/sites/4/controllers/1/plan",
        "/sites/4/controllers/2/sheet",
        "/sites/3/controllers/1/walk",
        "/sites/3/controllers/1/manual",
        "/sites/3/controllers/1/manual?what=winter",
        "/sites/1/controllers/1/history",
        "/sites/3/controllers/1/law",
        "/sites/1/controllers/1/card",
        "/sites/1/controllers/new",
        "/sites/1/controllers/1/budget",
        "/sites/1/controllers/1/budget?month=4&zone=3",
        "/sites/4/controllers/2/budget",
        "/sites/1/trial",
        "/sites/4/trial?way=monthly",
        "/sites/1/trial/sensors",
        "/sites/1/trial/ways/new",
        "/sites/1/trial/search",
        "/sites/1/trial/protocol",
        "/calls",
        "/sites/1/zones/1",
        "/sites/1/zones/1/survey",
        "/sites/1/zones/1/cans",
        "/sites/1/zones/1/season?by=scheduled",
        "/sites/1/weather/sources/new",
        "/sites/1/weather/compare",
        "/sites/3/sensors",
        "/sites/3/sensors/wiring",
        "/sites/4/sensors",
        "/sites/4/sensors/map",
        "/nowhere",
    ] {
        page.0.goto(&format!("{}{path}", server.url)).await.unwrap();
        page.css("h1").await;
        page.sound(path).await;
    }
    browser.close().await;
}
