//! One browser and one server for a journey, and the few things a person does.

mod axe;
pub mod leaving;

use fantoccini::actions::{InputSource, MouseActions, PointerAction, MOUSE_BUTTON_LEFT};
use fantoccini::elements::Element;
use fantoccini::wd::WindowHandle;
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::{json, Value};
use std::cell::Cell;
use std::future::Future;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const PATIENCE: Duration = Duration::from_secs(90);
/// Between two looks at a condition: asking without a pause would take the time that the page needs
/// to get there.
const BETWEEN: Duration = Duration::from_millis(30);
const LATE: Duration = Duration::from_secs(3);

/// Browsers draw in software here: one at a time, or they starve each other.
static TURN: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());

/// A server, a browser with one page, and a folder for both.
pub struct Bench {
    _turn: tokio::sync::MutexGuard<'static, ()>,
    client: Client,
    driver: Child,
    server: Option<Child>,
    url: String,
    folder: tempfile::TempDir,
    pictures: Pictures,
}

/// The release binary, built beside these tests.
fn binary() -> PathBuf {
    let tests = std::env::current_exe().unwrap();
    let found = tests.ancestors().map(|a| a.join("ulmix")).find(|p| p.is_file());
    found.expect("build the binary first: cargo build --release -p ulmix")
}

/// Starts a process and reads the line in which it says where it listens.
fn say(mut command: Command, words: &str) -> (Child, String) {
    let mut child = command
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap_or_else(|e| panic!("{command:?}: {e}"));
    let mut out = BufReader::new(child.stdout.take().unwrap());
    let mut line = String::new();
    while !line.contains(words) {
        line.clear();
        assert!(out.read_line(&mut line).unwrap() > 0, "{command:?} ended");
    }
    // The rest is read away, or the process would wait for it.
    std::thread::spawn(move || std::io::copy(&mut out, &mut std::io::sink()));
    (child, line.trim().to_owned())
}

/// How fine pictures are. The browser draws in software here.
#[derive(Clone, Copy, PartialEq)]
pub enum Pictures {
    /// Few triangles, a quarter of the pixels; the page is laid out as ever.
    Quick,
    /// As a person sees them.
    Full,
}

/// Serves the demo's projects; with a file of an access token, asks for that.
fn serve(
    data: &Path,
    port: &str,
    pictures: Pictures,
    token_file: Option<&Path>,
) -> (Child, String) {
    let mut command = Command::new(binary());
    match token_file {
        None => command.args(["demo", "--port", port]),
        Some(file) => command
            .args(["serve", "--bind", &format!("127.0.0.1:{port}")])
            .arg("--token-file")
            .arg(file),
    };
    command.arg("--data").arg(data);
    if pictures == Pictures::Quick {
        command.args(["--picture-triangles", "40000"]);
    }
    let (child, line) = say(command, "ready at");
    (child, line.rsplit(' ').next().unwrap().trim_end_matches('/').to_owned())
}

impl Bench {
    /// For a journey.
    pub async fn start() -> Bench {
        Bench::with(Pictures::Quick).await
    }

    /// Starts all, with pictures of this fineness.
    pub async fn with(pictures: Pictures) -> Bench {
        let turn = TURN.lock().await;
        let folder = tempfile::tempdir().unwrap();
        let (server, url) = serve(&folder.path().join("u.sqlite"), "0", pictures, None);
        let mut command = Command::new("chromedriver");
        command.arg("--port=0");
        let (driver, line) = say(command, "started successfully on port");
        let port: String = line.chars().filter(char::is_ascii_digit).collect();
        let profile = folder.path().join("profile");
        let downloads = folder.path().join("downloads");
        std::fs::create_dir(&downloads).unwrap();
        let args = [
            "--headless",
            "--no-sandbox",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--force-prefers-reduced-motion",
            "--use-angle=swiftshader",
            "--enable-unsafe-swiftshader",
            "--window-size=1280,939",
        ];
        let mut args: Vec<String> = args.map(Into::into).to_vec();
        args.push(format!("--user-data-dir={}", profile.display()));
        if pictures == Pictures::Quick {
            args.push("--force-device-scale-factor=0.5".into());
            args.push("--webgl-msaa-sample-count=0".into());
        }
        let options = json!({
            "args": args,
            "prefs": { "download.default_directory": downloads, "download.prompt_for_download": false },
        });
        let mut capabilities = serde_json::Map::new();
        capabilities.insert("goog:chromeOptions".into(), options);
        let client = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .expect("the browser starts");
        let b = Bench { _turn: turn, client, driver, server: Some(server), url, folder, pictures };
        b.open("/").await;
        let inner = b.js("return [innerWidth, innerHeight]").await;
        let (w, h) = (inner[0].as_i64().unwrap(), inner[1].as_i64().unwrap());
        b.client.set_window_size((2560 - w) as u32, (939 + 800 - h) as u32).await.unwrap();
        b
    }

    /// Goes to a path of the server.
    pub async fn open(&self, path: &str) {
        self.client.goto(&format!("{}{path}", self.url)).await.unwrap();
    }

    /// Saves what is seen as a PNG.
    pub async fn screenshot(&self, to: &Path) {
        std::fs::write(to, self.client.screenshot().await.unwrap()).unwrap();
    }

    /// Path of the page that is open.
    pub async fn path(&self) -> String {
        self.client.current_url().await.unwrap().path().to_owned()
    }

    /// Runs a script in the page; what it returns.
    pub async fn js(&self, script: &str) -> Value {
        self.client.execute(script, vec![]).await.unwrap()
    }

    /// Waits until something is so; the test fails with a picture when that takes too long.
    pub async fn until<F: Future<Output = bool>>(&self, what: &str, mut f: impl FnMut() -> F) {
        let start = Instant::now();
        while !f().await {
            if start.elapsed() > PATIENCE {
                let file = std::env::temp_dir().join("ulmix-journey-failed.png");
                self.screenshot(&file).await;
                panic!("waited too long until {what}; see {}", file.display());
            }
            tokio::time::sleep(BETWEEN).await;
        }
    }

    /// Acts until something is seen: again only when nothing came of it for a while, for what comes
    /// late would be taken back by a second time.
    pub async fn acted<A: Future<Output = ()>, F: Future<Output = bool>>(
        &self,
        what: &str,
        act: impl Fn() -> A,
        seen: impl Fn() -> F,
    ) {
        let last = Cell::new(None::<Instant>);
        self.until(what, || async {
            if seen().await {
                return true;
            }
            if last.get().is_none_or(|at| at.elapsed() > LATE) {
                act().await;
                last.set(Some(Instant::now()));
            }
            false
        })
        .await;
    }

    /// The picture of this quality is painted and nothing newer is on its way.
    pub async fn painted(&self, quality: &str) {
        let script = format!(
            "return document.querySelector('.view')?.dataset.painted === \
                 '{quality}' && !document.querySelector('.state .dot.busy')"
        );
        self.until(&format!("a {quality} picture is painted"), || async {
            self.js(&script).await == true
        })
        .await;
    }

    /// Everything typed is with the server.
    pub async fn saved(&self) {
        self.until("the change is saved", || async {
            self.text("[data-testid=saved-state]").await == "Saved"
        })
        .await;
    }

    /// Opens a step of the recipe, or closes it.
    pub async fn step(&self, title: &str) {
        let shown = "document.querySelector('.step.open h2')?.textContent";
        let is_open = || async { self.js(&format!("return {shown} === '{title}'")).await == true };
        let before = is_open().await;
        let click = || async { self.click_text(".step .title h2", title).await };
        let turned = || async { is_open().await != before };
        self.acted(&format!("the step {title} opens or closes"), click, turned).await;
    }

    /// Opens a group of controls in the open step by its name.
    pub async fn open_group(&self, name: &str) {
        let open = || async {
            let heads = "return [...document.querySelectorAll('.grouphead[aria-expanded=true] b')]";
            self.js(&format!("{heads}.some(b => b.textContent === '{name}')")).await == true
        };
        self.acted(
            &format!("the group {name} is open"),
            || async { self.click_text(".grouphead", name).await },
            open,
        )
        .await;
    }

    /// Opens the sheet of all kinds of structures.
    pub async fn open_kinds(&self) {
        let shown = || async { self.present(".kind-sheet").await };
        self.acted(
            "the kinds are shown",
            || async { self.click("[aria-label='Change the kind of structure']").await },
            shown,
        )
        .await;
    }

    /// Closes that sheet, so that the view is free.
    pub async fn close_kinds(&self) {
        self.click("[aria-label='Close the kinds of structures']").await;
        self.until("the kinds are gone", || async { !self.present(".kind-sheet").await }).await;
    }

    /// Chooses a kind of structure by its picture.
    pub async fn kind(&self, family: &str, kind: &str) {
        self.open_kinds().await;
        let families = "[aria-label='Family of structures'] .ant-segmented-item-label";
        self.click_text(families, family).await;
        self.click_text(".kind span", kind).await;
        self.close_kinds().await;
    }

    /// Every kind in sight has its picture.
    pub async fn kinds_drawn(&self) {
        self.until("every kind is drawn", || async {
            self.js("return [...document.querySelectorAll('.kind img')].every(i => \
                 i.complete && i.naturalWidth > 0)")
                .await
                == true
        })
        .await;
    }

    /// Types the grid step of the final mesh, with the step Mesh opened for it.
    pub async fn grid_step(&self, mm: &str) {
        self.step("Mesh").await;
        self.click("[aria-label='Grid step chosen by Ulmix']").await;
        self.fill("[aria-label='Grid step, mm']", mm).await;
        self.saved().await;
    }

    /// Drops a file whose size in millimetres is shown so, and takes it as the part.
    pub async fn begin_with(&self, name: &str, bytes: &[u8], size: &str) {
        self.open("/").await;
        self.drop_file(name, bytes).await;
        self.until("the unit is asked", || async { self.seen(".ant-modal", size).await }).await;
        self.click_text(".ant-modal button", "Use this part").await;
        self.painted("draft").await;
    }

    /// Adds a box, fills it with a structure of its own, and goes on to choose that.
    pub async fn filled_box(&self, fields: &[(&str, &str)]) {
        self.step("Zones").await;
        self.click_text("button", "Add a zone").await;
        self.click_text(".ant-dropdown-menu-title-content", "Box").await;
        self.until("the zone is there", || async { self.present("[aria-label='Middle X']").await })
            .await;
        for (field, value) in fields {
            self.fill(&format!("[aria-label='{field}']"), value).await;
            self.saved().await;
        }
        self.click("[aria-label='A structure of its own']").await;
        self.saved().await;
        self.click_text(".editor button", "Choose").await;
    }

    /// Is there an element that this selector finds?
    pub async fn present(&self, css: &str) -> bool {
        !self.client.find_all(Locator::Css(css)).await.unwrap().is_empty()
    }

    /// Do these words stand in an element of this kind?
    pub async fn seen(&self, css: &str, words: &str) -> bool {
        let find = "return [...document.querySelectorAll(arguments[0])].some(e => \
             e.innerText.replace(/\\s+/g, ' ').includes(arguments[1]))";
        self.client.execute(find, vec![json!(css), json!(words)]).await.unwrap() == true
    }

    async fn ask(&self, css: &str, what: &str) -> String {
        let script = format!(
            "const e = document.querySelector(arguments[0]); return e ? String({what} ?? '') : ''"
        );
        self.client
            .execute(&script, vec![json!(css)])
            .await
            .unwrap()
            .as_str()
            .unwrap_or_default()
            .to_owned()
    }

    /// Text of the first element that this selector finds; empty without one.
    pub async fn text(&self, css: &str) -> String {
        self.ask(css, "e.innerText").await
    }

    /// Value of the first field that this selector finds; empty without one.
    pub async fn value(&self, css: &str) -> String {
        self.ask(css, "e.value").await
    }

    /// An attribute of the first element that this selector finds; empty without one.
    pub async fn attribute(&self, css: &str, name: &str) -> String {
        self.ask(css, &format!("e.getAttribute('{name}')")).await
    }

    async fn find(&self, css: &str) -> Element {
        let found = self.client.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await;
        found.unwrap_or_else(|e| panic!("{css}: {e}"))
    }

    /// Clicks the first element that this selector finds.
    pub async fn click(&self, css: &str) {
        self.find(css).await.click().await.unwrap();
    }

    /// Clicks the element of this kind whose text begins so.
    pub async fn click_text(&self, css: &str, words: &str) {
        let start = Instant::now();
        loop {
            for e in self.client.find_all(Locator::Css(css)).await.unwrap() {
                let begins = e.text().await.is_ok_and(|t| t.trim().starts_with(words));
                if begins && e.click().await.is_ok() {
                    return;
                }
            }
            assert!(start.elapsed() < PATIENCE, "no {css} with “{words}” to click");
            tokio::time::sleep(BETWEEN).await;
        }
    }

    /// Types keys into the first element that this selector finds.
    pub async fn press(&self, css: &str, keys: &str) {
        self.client.find(Locator::Css(css)).await.unwrap().send_keys(keys).await.unwrap();
    }

    /// Presses a key where the focus is, by its name or its character.
    pub async fn key(&self, name: &str) {
        let code = match name {
            "Tab" => "\u{E004}",
            "Enter" => "\u{E007}",
            "Escape" => "\u{E00C}",
            "ArrowRight" => "\u{E014}",
            character => character,
        };
        self.client.active_element().await.unwrap().send_keys(code).await.unwrap();
    }

    /// Types a value over the old one and confirms it.
    pub async fn fill(&self, css: &str, text: &str) {
        let e = self.find(css).await;
        e.click().await.unwrap();
        e.send_keys(&format!("\u{E009}a\u{E000}{text}\n")).await.unwrap();
    }

    /// Clicks at a share of an element's width and height.
    pub async fn click_in(&self, css: &str, x: f64, y: f64) {
        self.drag(css, (x, y), (0.0, 0.0)).await;
    }

    /// Presses at a share of an element's width and height, moves by so many pixels and lets go.
    pub async fn drag(&self, css: &str, at: (f64, f64), by: (f64, f64)) {
        let script = "const r = document.querySelector(arguments[0]).getBoundingClientRect(); \
             return [r.left + r.width * arguments[1], r.top + r.height * arguments[2]]";
        let at =
            self.client.execute(script, vec![json!(css), json!(at.0), json!(at.1)]).await.unwrap();
        let (x, y) = (at[0].as_f64().unwrap().round(), at[1].as_f64().unwrap().round());
        let mut actions = MouseActions::new("mouse".into())
            .then(PointerAction::MoveTo { duration: None, x, y })
            .then(PointerAction::Down { button: MOUSE_BUTTON_LEFT });
        if by != (0.0, 0.0) {
            actions =
                actions.then(PointerAction::MoveTo { duration: None, x: x + by.0, y: y + by.1 });
        }
        self.client
            .perform_actions(actions.then(PointerAction::Up { button: MOUSE_BUTTON_LEFT }))
            .await
            .unwrap();
    }

    /// Drops a file of this name onto the page.
    pub async fn drop_file(&self, name: &str, bytes: &[u8]) {
        self.drop_files(&[(name, bytes)]).await;
    }

    /// Drops files on the page, all at once.
    pub async fn drop_files(&self, files: &[(&str, &[u8])]) {
        self.hand_over(
            files,
            "document.body.dispatchEvent(new DragEvent('drop', \
                 { dataTransfer: data, bubbles: true, cancelable: true }))",
        )
        .await;
    }

    /// Chooses a file in a file field.
    pub async fn choose_file(&self, css: &str, name: &str, bytes: &[u8]) {
        let then = format!(
            "const field = document.querySelector({})
            field.files = data.files
            field.dispatchEvent(new Event('change', {{ bubbles: true }}))",
            json!(css)
        );
        self.hand_over(&[(name, bytes)], &then).await;
    }

    async fn hand_over(&self, files: &[(&str, &[u8])], then: &str) {
        let script = format!(
            "const data = new DataTransfer()
            for (const [name, bytes] of arguments[0]) data.items.add(new File([new Uint8Array(bytes)], name))
            {then}"
        );
        self.client.execute(&script, vec![json!(files)]).await.unwrap();
    }

    /// The bytes of a file the browser saved.
    pub async fn downloaded(&self, name: &str) -> Vec<u8> {
        let path = self.folder.path().join("downloads").join(name);
        // The browser makes an empty file first and renames the whole one over it.
        let whole = || std::fs::metadata(&path).is_ok_and(|m| m.len() > 0);
        self.until(&format!("{name} is saved"), || async { whole() }).await;
        std::fs::read(path).unwrap()
    }

    /// The tab in front.
    pub async fn tab(&self) -> WindowHandle {
        self.client.window().await.unwrap()
    }

    /// Opens another tab and goes to it.
    pub async fn new_tab(&self) -> WindowHandle {
        let handle = self.client.new_window(true).await.unwrap().handle;
        self.client.switch_to_window(handle.clone()).await.unwrap();
        handle
    }

    /// Goes to a tab.
    pub async fn switch(&self, to: &WindowHandle) {
        self.client.switch_to_window(to.clone()).await.unwrap();
    }

    /// As kill −9 does.
    pub fn kill_server(&mut self) {
        if let Some(mut s) = self.server.take() {
            s.kill().unwrap();
            s.wait().unwrap();
        }
    }

    /// Starts it again on the same port with the same data.
    pub fn restart_server(&mut self) {
        self.start_server(None);
    }

    /// Ends the server and starts another one, which asks for this access token.
    pub fn restart_server_with_token(&mut self, token: &str) {
        let file = self.folder.path().join("token");
        std::fs::write(&file, token).unwrap();
        self.start_server(Some(&file));
    }

    fn start_server(&mut self, token_file: Option<&Path>) {
        let port = self.url.rsplit(':').next().unwrap().to_owned();
        self.server = Some(serve(&self.data(), &port, self.pictures, token_file).0);
    }

    /// The server's file of projects.
    pub fn data(&self) -> PathBuf {
        self.folder.path().join("u.sqlite")
    }
}

/// Ends the browser with this profile at once: to be asked it takes seconds, and a killed driver
/// leaves it behind.
fn end_browser(profile: &Path) {
    let of_profile = format!("--user-data-dir={}", profile.display());
    let processes = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let is_its = |at: &Path| {
        std::fs::read_to_string(at.join("cmdline")).is_ok_and(|line| line.contains(&of_profile))
    };
    let its =
        processes.filter(|p| is_its(&p.path())).filter_map(|p| p.file_name().into_string().ok());
    let _ = Command::new("kill").arg("-9").args(its).stderr(Stdio::null()).status();
}

impl Drop for Bench {
    fn drop(&mut self) {
        end_browser(&self.folder.path().join("profile"));
        for p in [Some(&mut self.driver), self.server.as_mut()].into_iter().flatten() {
            let _ = p.kill();
            let _ = p.wait();
        }
    }
}
