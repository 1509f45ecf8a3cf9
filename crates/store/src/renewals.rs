//! When authorities want their certificates renewed (RFC 9773).

use crate::rows::instant;
use crate::{Store, StoreError};
use eskort_core::boxed;
use eskort_core::inventory::Part;
use eskort_core::pki::Certificate;
use eskort_core::renewal::Window;
use jiff::Timestamp;
use rusqlite::{Row, params};

/// What an authority said of the renewal of a generation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AskedRenewal {
    /// The generation.
    pub generation: u32,
    /// The moment of the window at which it is renewed, and the window; `None` while the authority has said none.
    pub moment: Option<(Timestamp, Window)>,
    /// Why the last question had no answer.
    pub trouble: Option<String>,
    /// When the authority is asked again.
    pub ask_again: Timestamp,
}

impl AskedRenewal {
    /// Returns when a generation is to be renewed; `None` when this is about another one.
    pub fn moment_of(&self, generation: u32) -> Option<Timestamp> {
        self.moment.as_ref().filter(|_| self.generation == generation).map(|(at, _)| *at)
    }
}

impl Store {
    /// Returns what its authority last said of the renewal of a certificate.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn asked_renewal(&self, certificate: &str) -> Result<Option<AskedRenewal>, StoreError> {
        let sql = "SELECT generation, at, starts, ends, explanation, trouble, ask_again FROM asked_renewal WHERE certificate = ?";
        let read = |row: &Row<'_>| {
            let moment = match row.get::<_, Option<i64>>(1)? {
                Some(_) => {
                    let window = Window { start: instant(row, 2)?, end: instant(row, 3)?, explanation: row.get(4)? };
                    Some((instant(row, 1)?, window))
                }
                None => None,
            };
            Ok(AskedRenewal { generation: row.get(0)?, moment, trouble: row.get(5)?, ask_again: instant(row, 6)? })
        };
        Ok(self.rows(sql, [certificate], read)?.into_iter().next())
    }

    /// Writes down what its authority said of the renewal of a certificate.
    ///
    /// # Errors
    /// When the ledger fails.
    #[boxed]
    pub async fn save_asked_renewal(&self, certificate: &str, asked: &AskedRenewal) -> Result<(), StoreError> {
        let sql = "INSERT INTO asked_renewal (certificate, generation, at, starts, ends, explanation, trouble, ask_again)
                   VALUES (?, ?, ?, ?, ?, ?, ?, ?)
                   ON CONFLICT (certificate) DO UPDATE SET generation = excluded.generation, at = excluded.at, starts = excluded.starts,
                     ends = excluded.ends, explanation = excluded.explanation, trouble = excluded.trouble, ask_again = excluded.ask_again";
        let window = asked.moment.as_ref().map(|(_, window)| window);
        let values = params![
            certificate,
            asked.generation,
            asked.moment.as_ref().map(|(at, _)| at.as_second()),
            window.map(|window| window.start.as_second()),
            window.map(|window| window.end.as_second()),
            window.and_then(|window| window.explanation.clone()),
            asked.trouble,
            asked.ask_again.as_second()
        ];
        self.run(sql, values).map(drop)
    }

    /// Returns what a stored generation is called where its authority says when to renew it; `None` for one that cannot be read, or has no
    /// such name.
    pub fn renewal_id(&self, certificate: &str, generation: u32) -> Option<String> {
        let path = self.generation_folder(certificate, generation).part(Part::Certificate);
        let text = std::fs::read_to_string(path).ok()?;
        Certificate::all_from_pem(&text).ok()?.first()?.renewal_id()
    }
}
