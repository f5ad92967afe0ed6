//! The user's wish to stop, for calls that wait for a server and have no progress beside them.

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
