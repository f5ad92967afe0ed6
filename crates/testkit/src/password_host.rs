//! A stand-in for an SSH host that asks for a password or puts questions: the real one would
//! need accounts of the system. It lets in or does not; there is nothing behind it.

use russh::keys::{PrivateKey, load_secret_key};
use russh::server::{Auth, Config, Handler, Response, run_stream};
use russh::{MethodKind, MethodSet};
use std::borrow::Cow;
use std::path::Path;
use std::process::Command;
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// How it asks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asking {
    /// For a password.
    Password,
    /// By questions.
    Questions,
}

/// A host that lets in whoever knows the word.
pub struct PasswordHost {
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// The line of a `known_hosts` file that names its key.
    pub known: String,
    let_in: Arc<Mutex<Vec<String>>>,
    shown: Arc<Mutex<Vec<String>>>,
}

#[derive(Clone)]
struct Door {
    asking: Asking,
    word: String,
    let_in: Arc<Mutex<Vec<String>>>,
    shown: Arc<Mutex<Vec<String>>>,
}

impl Door {
    fn judge(&self, user: &str, word: &str) -> Auth {
        if let Ok(mut shown) = self.shown.lock() {
            shown.push(word.to_owned());
        }
        if word != self.word {
            return Auth::reject();
        }
        if let Ok(mut let_in) = self.let_in.lock() {
            let_in.push(user.to_owned());
        }
        Auth::Accept
    }
}

impl Handler for Door {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, Self::Error> {
        Ok(match self.asking {
            Asking::Password => self.judge(user, password),
            Asking::Questions => Auth::reject(),
        })
    }

    async fn auth_keyboard_interactive<'a>(
        &'a mut self,
        user: &str,
        _: &str,
        response: Option<Response<'a>>,
    ) -> Result<Auth, Self::Error> {
        match (self.asking, response) {
            (Asking::Password, _) => Ok(Auth::reject()),
            (Asking::Questions, None) => Ok(Auth::Partial {
                name: "".into(),
                instructions: "".into(),
                prompts: Cow::Borrowed(&[(Cow::Borrowed("Password: "), false)]),
            }),
            (Asking::Questions, Some(mut answers)) => {
                let answer = answers.next().unwrap_or_default();
                Ok(self.judge(user, &String::from_utf8_lossy(&answer)))
            }
        }
    }
}

impl PasswordHost {
    /// Starts one; it lasts as long as the process.
    pub fn start(folder: &Path, asking: Asking, word: &str) -> Self {
        std::fs::create_dir_all(folder).expect("a folder for the host");
        let path = folder.join("host-key");
        let made = Command::new("ssh-keygen")
            .args(["-q", "-t", "ed25519", "-N", "", "-f"])
            .arg(&path)
            .status();
        assert!(made.expect("ssh-keygen is installed; scripts/test does that").success());
        let key = load_secret_key(&path, None).expect("the key");
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a free port");
        let port = listener.local_addr().expect("its address").port();
        let [let_in, shown] = [(); 2].map(|()| Arc::new(Mutex::new(Vec::new())));
        let door =
            Door { asking, word: word.to_owned(), let_in: let_in.clone(), shown: shown.clone() };
        std::thread::spawn(move || serve(listener, key, door));
        let public = std::fs::read_to_string(folder.join("host-key.pub")).expect("its public part");
        let public: Vec<&str> = public.split_whitespace().take(2).collect();
        let known = format!("[127.0.0.1]:{port} {}\n", public.join(" "));
        Self { port, known, let_in, shown }
    }

    /// The passwords that it was shown.
    pub fn asked(&self) -> Vec<String> {
        self.shown.lock().map(|words| words.clone()).unwrap_or_default()
    }

    /// Who was let in.
    pub fn let_in(&self) -> Vec<String> {
        self.let_in.lock().map(|names| names.clone()).unwrap_or_default()
    }
}

fn serve(listener: std::net::TcpListener, key: PrivateKey, door: Door) {
    let methods: &[MethodKind] = match door.asking {
        Asking::Password => &[MethodKind::Password],
        Asking::Questions => &[MethodKind::KeyboardInteractive],
    };
    let config = Arc::new(Config {
        keys: vec![key],
        methods: MethodSet::from(methods),
        auth_rejection_time: Duration::ZERO,
        auth_rejection_time_initial: Some(Duration::ZERO),
        ..Config::default()
    });
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
    runtime.expect("a runtime").block_on(async move {
        listener.set_nonblocking(true).expect("a listener that does not block");
        let listener = tokio::net::TcpListener::from_std(listener).expect("a listener");
        while let Ok((stream, _)) = listener.accept().await {
            let (config, door) = (config.clone(), door.clone());
            tokio::spawn(async move {
                if let Ok(session) = run_stream(config, stream, door).await {
                    let _ = session.await;
                }
            });
        }
    });
}
