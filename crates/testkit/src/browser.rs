//! A real browser that loads pages and tells what it asked for: headless Chromium, driven over its
//! debugging pipe (Chrome DevTools Protocol: messages of JSON, each ended by a zero byte).

use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::thread;
use std::time::{Duration, Instant};

/// What a browser did to show a page.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Visit {
    /// Addresses that were asked for, as they were asked for.
    pub requests: BTreeSet<String>,
    /// Addresses that the page names, and that the browser refused to ask for.
    pub blocked: BTreeSet<String>,
}

/// A browser; it ends when this is dropped.
pub struct Browser {
    child: Child,
    to: File,
    from: Receiver<Value>,
    number: u64,
    /// Answers that came while another was waited for.
    early: Vec<Value>,
}

/// One window at work.
struct Window {
    session: String,
    page: usize,
    visit: Visit,
    urls: BTreeMap<String, String>,
    under_way: BTreeSet<String>,
    loaded: bool,
    began: Instant,
    last: Instant,
}

impl Browser {
    /// Starts one, in whose eyes every host is on this port of this machine.
    pub fn start(folder: &Path, port: u16) -> Self {
        let (pipe_in, pipe_out) = (folder.join("to-browser"), folder.join("from-browser"));
        for pipe in [&pipe_in, &pipe_out] {
            assert!(Command::new("mkfifo").arg(pipe).status().expect("mkfifo runs").success());
        }
        let switches = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-dev-shm-usage",
            "--remote-debugging-pipe",
            "--ignore-certificate-errors",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-default-apps",
            "--disable-sync",
            "--no-first-run",
            "--disable-site-isolation-trials",
            "--disable-features=IsolateOrigins,site-per-process,HttpsUpgrades,HttpsFirstBalancedMode",
            "--disable-background-timer-throttling",
            "--disable-renderer-backgrounding",
            "--disable-backgrounding-occluded-windows",
            "--autoplay-policy=no-user-gesture-required",
            "--window-size=1280,800",
        ];
        let mut command = Command::new("sh");
        command
            .args(["-c", "in=$1; out=$2; shift 2; exec chromium \"$@\" 3<\"$in\" 4>\"$out\"", "sh"])
            .args([&pipe_in, &pipe_out])
            .args(switches)
            .arg(format!("--user-data-dir={}", folder.join("profile").display()))
            .arg(format!("--host-resolver-rules=MAP * 127.0.0.1:{port}"))
            .arg("about:blank")
            .stdout(Stdio::null())
            .stderr(File::create(folder.join("browser.log")).expect("a file"))
            .stdin(Stdio::null());
        let child = command.spawn().expect("chromium is installed: scripts/test installs it");
        let to = OpenOptions::new().write(true).open(&pipe_in).expect("the browser reads");
        let out = File::open(&pipe_out).expect("the browser writes");
        let (tell, from) = channel();
        thread::spawn(move || {
            for message in BufReader::new(out).split(0).map_while(Result::ok) {
                if let Ok(message) = serde_json::from_slice(&message)
                    && tell.send(message).is_err()
                {
                    break;
                }
            }
        });
        Self { child, to, from, number: 0, early: Vec::new() }
    }

    fn say(&mut self, session: Option<&str>, method: &str, params: Value) -> u64 {
        self.number += 1;
        let mut message = json!({"id": self.number, "method": method, "params": params});
        if let Some(session) = session {
            message["sessionId"] = session.into();
        }
        let mut bytes = message.to_string().into_bytes();
        bytes.push(0);
        self.to.write_all(&bytes).expect("the browser listens");
        self.number
    }

    fn ask(&mut self, session: Option<&str>, method: &str, params: Value) -> Value {
        let number = self.say(session, method, params);
        loop {
            let message = self.from.recv_timeout(Duration::from_secs(60)).expect("it answers");
            if message["id"] == number {
                assert!(message["error"].is_null(), "{method}: {message}");
                return message["result"].clone();
            }
            self.early.push(message);
        }
    }

    fn window(&mut self) -> String {
        let target = self.ask(None, "Target.createTarget", json!({"url": "about:blank"}));
        let attached = json!({"targetId": target["targetId"], "flatten": true});
        let session = self.ask(None, "Target.attachToTarget", attached)["sessionId"].clone();
        let session = session.as_str().expect("a session").to_owned();
        for (method, params) in [
            ("Network.enable", json!({})),
            ("Network.setCacheDisabled", json!({"cacheDisabled": true})),
            ("Page.enable", json!({})),
            ("Audits.enable", json!({})),
            (
                "Emulation.setDeviceMetricsOverride",
                json!({"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": false}),
            ),
        ] {
            self.ask(Some(&session), method, params);
        }
        session
    }

    /// Loads each page, several at once, and waits until each asks for nothing more for so long.
    pub fn visit(&mut self, pages: &[String], windows: usize, quiet: Duration) -> Vec<Visit> {
        let mut done = vec![Visit::default(); pages.len()];
        let mut next = 0;
        let mut open: Vec<Window> = Vec::new();
        let mut idle: Vec<String> = (0..windows.min(pages.len())).map(|_| self.window()).collect();
        let every = idle.clone();
        self.early.clear();
        while next < pages.len() || !open.is_empty() {
            while next < pages.len()
                && let Some(session) = idle.pop()
            {
                self.say(Some(&session), "Page.navigate", json!({"url": pages[next]}));
                let now = Instant::now();
                open.push(Window {
                    session,
                    page: next,
                    visit: Visit::default(),
                    urls: BTreeMap::new(),
                    under_way: BTreeSet::new(),
                    loaded: false,
                    began: now,
                    last: now,
                });
                next += 1;
            }
            match self.from.recv_timeout(Duration::from_millis(20)) {
                Ok(message) => {
                    let session = message["sessionId"].as_str().unwrap_or_default();
                    if let Some(window) = open.iter_mut().find(|it| it.session == session) {
                        window.take(&message);
                    }
                }
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => panic!("the browser has ended"),
            }
            let finished = |window: &Window| {
                let still = window.last.elapsed() > quiet;
                (window.loaded && window.under_way.is_empty() && still)
                    || window.began.elapsed() > Duration::from_secs(15)
            };
            for number in (0..open.len()).rev() {
                if finished(&open[number]) {
                    let window = open.swap_remove(number);
                    done[window.page] = window.visit;
                    // What the page still does must not count for the next one.
                    self.ask(Some(&window.session), "Page.navigate", json!({"url": "about:blank"}));
                    self.early.clear();
                    idle.push(window.session);
                }
            }
        }
        for session in every {
            self.say(Some(&session), "Page.close", json!({}));
        }
        done
    }
}

impl Window {
    fn take(&mut self, message: &Value) {
        let params = &message["params"];
        let id = params["requestId"].as_str().unwrap_or_default().to_owned();
        let web = |url: &str| url.starts_with("http://") || url.starts_with("https://");
        match message["method"].as_str().unwrap_or_default() {
            "Network.requestWillBeSent" => {
                let url = params["request"]["url"].as_str().unwrap_or_default();
                if web(url) {
                    self.visit.requests.insert(url.to_owned());
                    self.urls.insert(id.clone(), url.to_owned());
                    self.under_way.insert(id);
                }
            }
            "Network.loadingFinished" | "Network.requestServedFromCache" => {
                self.under_way.remove(&id);
            }
            "Network.loadingFailed" => {
                self.under_way.remove(&id);
                let reason = params["blockedReason"].as_str().unwrap_or_default();
                if !reason.is_empty()
                    && let Some(url) = self.urls.get(&id)
                {
                    self.visit.requests.remove(url);
                    self.visit.blocked.insert(url.clone());
                }
            }
            "Audits.issueAdded" => {
                let details = &params["issue"]["details"];
                let mixed = &details["mixedContentIssueDetails"];
                if mixed["resolutionStatus"] == "MixedContentBlocked" {
                    let url = mixed["insecureURL"].as_str().unwrap_or_default();
                    self.visit.requests.remove(url);
                    self.visit.blocked.insert(url.to_owned());
                }
                let policy = &details["contentSecurityPolicyIssueDetails"];
                let url = policy["blockedURL"].as_str().unwrap_or_default();
                if policy["isReportOnly"] == false && web(url) {
                    self.visit.requests.remove(url);
                    self.visit.blocked.insert(url.to_owned());
                }
            }
            "Page.loadEventFired" => self.loaded = true,
            _ => return,
        }
        self.last = Instant::now();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        self.say(None, "Browser.close", json!({}));
        let until = Instant::now() + Duration::from_secs(10);
        while Instant::now() < until {
            if matches!(self.child.try_wait(), Ok(Some(_))) {
                return;
            }
            thread::sleep(Duration::from_millis(20));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
