//! What a site wants of https beside its certificate: where visitors are sent, for how long browsers remember it, how strict TLS is.

use crate::names::Identifier;
use jiff::{SignedDuration, Timestamp};

/// What a site wants of https. Nothing of it is touched where nothing is wanted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct HttpsWishes {
    /// Whether http is redirected to https.
    pub redirect: bool,
    /// Which of a name and the same with `www.` visitors are sent to.
    pub prefer: Option<Prefer>,
    /// For how long browsers are to come back over https alone.
    pub hsts: Option<Hsts>,
    /// Which visitors TLS is for.
    pub tls: Option<TlsLevel>,
    /// Whether HTTP/2 is spoken.
    pub http2: bool,
    /// Whether the authority's revocation answer is sent along.
    pub stapling: bool,
    /// The port for TLS listeners that are added; `None` for the server's own.
    pub tls_port: Option<u16>,
}

impl HttpsWishes {
    /// Returns what would mend findings of a look at the site, by their words.
    pub fn mending<'a>(codes: impl Iterator<Item = &'a str>) -> Self {
        let mut wishes = HttpsWishes::default();
        for code in codes {
            match code {
                "ssl3" | "tls10" | "tls11" | "no-tls13" | "broken-ciphers" | "small-blocks" | "recordable"
                | "older-ciphers" | "visitor-chooses" | "small-prime" | "tiny-prime" => {
                    wishes.tls = Some(TlsLevel::Usual)
                }
                "no-redirect" | "loses-path" | "temporary-redirect" => wishes.redirect = true,
                "no-hsts" | "short-hsts" => wishes.hsts = Some(Hsts::Ramp),
                "not-stapled" => wishes.stapling = true,
                _ => {}
            }
        }
        wishes
    }

    /// Returns the same, with what others wish where nothing is wished.
    #[must_use]
    pub fn or(self, others: HttpsWishes) -> Self {
        HttpsWishes {
            redirect: self.redirect || others.redirect,
            prefer: self.prefer.or(others.prefer),
            hsts: self.hsts.or(others.hsts),
            tls: self.tls.or(others.tls),
            http2: self.http2 || others.http2,
            stapling: self.stapling || others.stapling,
            tls_port: self.tls_port.or(others.tls_port),
        }
    }

    /// Returns the keys of the inventory that say what is wished, as they stand in an install entry.
    pub fn keys(self) -> Vec<String> {
        let hsts = self.hsts.map(|hsts| match hsts {
            Hsts::Ramp => "hsts = \"ramp\"".to_owned(),
            Hsts::Off => "hsts = \"off\"".to_owned(),
            Hsts::Fixed(seconds) => format!("hsts = \"{seconds}s\""),
        });
        let flags =
            [(self.redirect, "redirect = true"), (self.http2, "http2 = true"), (self.stapling, "stapling = true")];
        let flags = flags.into_iter().filter(|(wished, _)| *wished).map(|(_, key)| key.to_owned());
        let prefer = self.prefer.map(|prefer| format!("prefer = \"{}\"", prefer.word()));
        let tls = self.tls.map(|level| format!("tls = \"{}\"", level.word()));
        let port = self.tls_port.map(|port| format!("tls-port = {port}"));
        flags.chain([prefer, hsts, tls, port].into_iter().flatten()).collect()
    }
}

/// Which of two names visitors are sent to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Prefer {
    /// The name without `www.`.
    Bare,
    /// The name with `www.`.
    Www,
}

impl Prefer {
    /// All of them.
    pub const ALL: [Prefer; 2] = [Prefer::Bare, Prefer::Www];

    /// Returns the inventory's word.
    pub fn word(self) -> &'static str {
        match self {
            Prefer::Bare => "bare",
            Prefer::Www => "www",
        }
    }

    /// Returns the name that visitors are sent to, and the one that they are sent from.
    pub fn order(self, bare: &str) -> (String, String) {
        let (bare, www) = (bare.to_owned(), format!("www.{bare}"));
        match self {
            Prefer::Bare => (bare, www),
            Prefer::Www => (www, bare),
        }
    }
}

/// Returns the names that a certificate is for both without `www.` and with it: those without.
pub fn with_and_without_www<'a>(names: impl Iterator<Item = &'a Identifier> + Clone) -> Vec<String> {
    let is_there = |wanted: &str| names.clone().any(|name| name.covers(wanted));
    let bare = names.clone().filter(|name| !name.is_wildcard()).map(ToString::to_string);
    bare.filter(|bare| is_there(&format!("www.{bare}"))).collect()
}

/// For how long browsers are told to come back over https alone (RFC 6797).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hsts {
    /// For longer from step to step: [`RAMP`].
    Ramp,
    /// Browsers are told to forget it: `max-age=0` (section 6.1.1).
    Off,
    /// For so many seconds.
    Fixed(u32),
}

/// The steps of the ramp in seconds: minutes, a week, a year.
pub const RAMP: [u32; 3] = [300, 604_800, 31_536_000];

/// Where a site stands on the ramp.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RampStep {
    /// The number of the step in [`RAMP`].
    pub step: usize,
    /// Since when no look at the site has found anything wrong with it.
    pub since: Timestamp,
}

impl RampStep {
    /// Returns the first step.
    pub fn first(now: Timestamp) -> Self {
        RampStep { step: 0, since: now }
    }

    /// Returns for how many seconds browsers remember it.
    pub fn max_age(self) -> u32 {
        RAMP[self.step.min(RAMP.len() - 1)]
    }

    /// Whether a step comes after this one.
    pub fn goes_on(self) -> bool {
        self.step + 1 < RAMP.len()
    }

    /// Returns when the next step is due if nothing is found wrong until then; `None` on the last one.
    pub fn next(self) -> Option<Timestamp> {
        let time = SignedDuration::from_secs(i64::from(self.max_age()));
        self.goes_on().then(|| self.since.checked_add(time).unwrap_or(Timestamp::MAX))
    }

    /// Returns the step after a look at the site: the next one when its time has come, this one from the beginning when something was wrong.
    #[must_use]
    pub fn after_look(self, was_good: bool, now: Timestamp) -> Self {
        match self.next() {
            Some(_) if !was_good => RampStep { since: now, ..self },
            Some(due) if due <= now => RampStep { step: self.step + 1, since: now },
            _ => self,
        }
    }
}

/// Which visitors TLS is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TlsLevel {
    /// TLS 1.3 alone.
    Strict,
    /// TLS 1.2 and 1.3, with what RFC 9325 recommends.
    Usual,
    /// TLS 1.2 and 1.3, with block ciphers of before for old visitors.
    Lenient,
}

impl TlsLevel {
    /// All of them.
    pub const ALL: [TlsLevel; 3] = [TlsLevel::Strict, TlsLevel::Usual, TlsLevel::Lenient];

    /// Returns the inventory's word.
    pub fn word(self) -> &'static str {
        match self {
            TlsLevel::Strict => "strict",
            TlsLevel::Usual => "usual",
            TlsLevel::Lenient => "lenient",
        }
    }

    /// Returns the versions of TLS, as OpenSSL names them.
    pub fn protocols(self) -> &'static [&'static str] {
        match self {
            TlsLevel::Strict => &["TLSv1.3"],
            TlsLevel::Usual | TlsLevel::Lenient => &["TLSv1.2", "TLSv1.3"],
        }
    }

    /// Returns the ciphers for TLS 1.2 as OpenSSL writes them; `None` where it is not spoken. All have forward secrecy (RFC 9325
    /// section 4.1).
    pub fn ciphers(self) -> Option<&'static str> {
        match self {
            TlsLevel::Strict => None,
            TlsLevel::Usual => Some("ECDHE+AESGCM:ECDHE+CHACHA20:!PSK"),
            TlsLevel::Lenient => Some("ECDHE+AESGCM:ECDHE+CHACHA20:ECDHE+AES:!PSK"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_ramp_goes_up_after_good_looks_only() {
        let at = |second: i64| Timestamp::from_second(second).unwrap();
        let step = |step: usize, second: i64| RampStep { step, since: at(second) };
        for (before, good, now, after) in [
            (step(0, 0), true, 299, step(0, 0)),
            (step(0, 0), true, 300, step(1, 300)),
            (step(0, 0), false, 300, step(0, 300)),
            (step(1, 300), true, 604_000, step(1, 300)),
            (step(1, 300), true, 605_100, step(2, 605_100)),
            (step(1, 300), false, 10, step(1, 10)),
            // On the last step nothing is waited for.
            (step(2, 0), false, i64::from(RAMP[2]) * 2, step(2, 0)),
            (step(2, 0), true, i64::from(RAMP[2]) * 2, step(2, 0)),
        ] {
            assert_eq!(before.after_look(good, at(now)), after, "{before:?} {good} {now}");
        }
        assert_eq!((step(0, 7).next(), step(2, 7).next()), (Some(at(307)), None));
        assert_eq!(step(9, 0).max_age(), RAMP[2]);
    }
}
