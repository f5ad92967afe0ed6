//! A server that accepts a connection and says nothing: it is not waited for without an end, and
//! whoever wants to stop meanwhile is heard.

use super::{ServerAddress, Unreachable};
use fernweh_ports::{Result, Trouble};
use std::time::Duration;
use tokio::runtime::Runtime;

/// How long a server may take to let somebody in.
pub(crate) const FIRST_ANSWER: Duration = Duration::from_secs(20);

/// Waits for a login as long as that is reasonable; `failed` says what an error means.
pub(crate) fn logged_in<T, E>(
    runtime: &Runtime,
    address: &ServerAddress,
    connecting: impl Future<Output = std::result::Result<T, E>>,
    failed: impl Fn(&E) -> Trouble,
) -> Result<T> {
    runtime.block_on(async {
        tokio::select! {
            answered = tokio::time::timeout(FIRST_ANSWER, connecting) => match answered {
                Ok(answer) => answer.map_err(|error| failed(&error)),
                Err(_) => {
                    let silent = format!(
                        "it accepts connections and says nothing for {} s",
                        FIRST_ANSWER.as_secs()
                    );
                    Err(Unreachable::Nobody("database").trouble(address, silent))
                }
            },
            () = crate::stop::wanted() => {
                Err(crate::stop::interrupted())
            }
        }
    })
}
