//! Signals that ask the program to stop: Ctrl-C, SIGTERM, and SIGHUP of a terminal that is gone.

use eskort_core::boxed;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;

/// How often somebody has asked the program to stop.
#[derive(Clone)]
pub struct Stop {
    asked: watch::Receiver<u32>,
}

impl Stop {
    /// Begins to listen for signals. From now on they do not end the program by themselves.
    ///
    /// # Panics
    /// Outside a runtime of tokio's.
    pub fn listen() -> Self {
        let (count, asked) = watch::channel(0);
        let kinds = [SignalKind::interrupt(), SignalKind::terminate(), SignalKind::hangup()];
        for mut stream in kinds.into_iter().filter_map(|kind| signal(kind).ok()) {
            let count = count.clone();
            tokio::spawn(async move {
                while stream.recv().await.is_some() {
                    count.send_modify(|n| *n += 1);
                }
            });
        }
        Stop { asked }
    }

    /// Returns whether somebody has asked.
    pub fn is_asked(&self) -> bool {
        *self.asked.borrow() > 0
    }

    /// Ends when somebody has asked for the `nth` time.
    #[boxed]
    pub async fn asked(&self, nth: u32) {
        let mut asked = self.asked.clone();
        if asked.wait_for(|n| *n >= nth).await.is_err() {
            // Nobody can ask any more.
            std::future::pending::<()>().await;
        }
    }
}
