//! The threads that drive connections to other hosts.

use std::sync::OnceLock;
use tokio::runtime::{Builder, Runtime};

/// The runtime that drives connections whose work goes on in the background.
pub(crate) fn runtime() -> &'static Runtime {
    static RUNTIME: OnceLock<Runtime> = OnceLock::new();
    RUNTIME.get_or_init(|| {
        let built = Builder::new_multi_thread().worker_threads(2).enable_all().build();
        built.expect("the operating system gives threads")
    })
}
