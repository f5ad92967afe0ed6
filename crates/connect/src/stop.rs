//! The user's wish to stop, for calls that wait for a server and have no progress beside them.

use fernweh_ports::{Result, Trouble};
use std::sync::OnceLock;
use std::time::Duration;

type Asks = Box<dyn Fn() -> bool + Send + Sync>;

static ASKS: OnceLock<Asks> = OnceLock::new();

/// Says once for the whole program how the wish is known; without it nobody ever wishes.
pub fn when(asks: impl Fn() -> bool + Send + Sync + 'static) {
    let _ = ASKS.set(Box::new(asks));
}

/// Whether the user wants to stop.
pub(crate) fn asked() -> bool {
    ASKS.get().is_some_and(|asks| asks())
}

/// Waits until the user wants to stop.
pub(crate) async fn wanted() {
    while !asked() {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// What a call that was waiting ends with.
pub(crate) fn interrupted() -> Trouble {
    Trouble::interrupted("interrupted").because("stopped with Ctrl-C or a signal")
}

/// Waits for an answer, as long as the user does.
pub(crate) async fn unless_wanted<T>(answer: impl Future<Output = Result<T>>) -> Result<T> {
    tokio::select! {
        answered = answer => answered,
        () = wanted() => Err(interrupted()),
    }
}

/// Takes a step. Once the user wants to stop, it has a moment left: what is cleaned up then must
/// still reach a host that answers.
pub(crate) async fn soon_once_wanted<T>(step: impl Future<Output = Result<T>>) -> Result<T> {
    tokio::select! {
        taken = step => taken,
        () = async { wanted().await; tokio::time::sleep(MOMENT).await } => Err(interrupted()),
    }
}

/// How long a step may still take then.
const MOMENT: Duration = Duration::from_millis(700);
