//! Where a name leads by CNAME records, and the zone of that: one bounded walker.

use crate::exchange::{AskError, ask, parse_name};
use crate::lookup::plain;
use eskort_core::boxed;
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{Name, RData, RecordType};
use std::net::SocketAddr;

/// So many CNAME records are followed from one name.
const MOST_STEPS: usize = 8;

/// A zone, as its SOA record says (RFC 1035 section 3.3.13).
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Zone {
    /// Its name, without the final dot.
    pub name: String,
    /// The host name of its primary name server.
    pub primary: String,
}

/// Where a name leads, and the zone that lies in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Located {
    /// The name at the end of any CNAME records; the name itself when there are none.
    pub name: String,
    /// Its zone.
    pub zone: Zone,
}

/// A walk along CNAME records.
struct Walk {
    /// The names passed, the present one last.
    passed: Vec<Name>,
}

/// Where an answer takes a walk.
#[derive(Debug, PartialEq, Eq)]
enum Step {
    /// To the end: the name lies in this zone.
    Found(Zone),
    /// To another name, about which nothing is said here.
    On,
    /// Nowhere: the server says nothing about the name.
    Silent,
    /// Nowhere: what the server says instead.
    Bad(String),
}

impl Walk {
    fn at(&self) -> &Name {
        self.passed.last().expect("a walk begins at a name")
    }

    /// Goes on by the answer to a question for the SOA record of the present name.
    fn step(&mut self, answer: &Message) -> Step {
        match answer.metadata.response_code {
            ResponseCode::NoError | ResponseCode::NXDomain => {}
            _ => return Step::Silent,
        }
        let begun = self.passed.len();
        // A server that knows the target too answers for the whole way at once.
        while let Some(next) = answer.answers.iter().find_map(|record| match &record.data {
            RData::CNAME(cname) if record.name == *self.at() => Some(cname.0.clone()),
            _ => None,
        }) {
            let first = plain(&self.passed[0]);
            if self.passed.contains(&next) {
                return Step::Bad(format!("CNAME records in a circle at {}, on the way from {first}", plain(&next)));
            }
            if self.passed.len() > MOST_STEPS {
                return Step::Bad(format!("CNAME records from {first} that do not end after {MOST_STEPS} steps"));
            }
            self.passed.push(next);
        }
        match zone_in(answer, self.at()) {
            Some(zone) => Step::Found(zone),
            None if self.passed.len() > begun => Step::On,
            None => Step::Silent,
        }
    }
}

/// Returns the zone that an answer names for a name.
fn zone_in(answer: &Message, at: &Name) -> Option<Zone> {
    answer.answers.iter().chain(&answer.authorities).find_map(|record| match &record.data {
        RData::SOA(soa) if record.name.zone_of(at) => {
            Some(Zone { name: plain(&record.name), primary: plain(&soa.mname) })
        }
        _ => None,
    })
}

/// Finds where a name leads by CNAME records, and the zone of that, as a server sees it. Names that the server does not
/// answer for are asked of `otherwise`.
///
/// # Errors
/// When a server does not answer or shows no zone, or the CNAME records go in a circle or lead on for more than eight steps.
#[boxed]
pub async fn locate(server: SocketAddr, otherwise: SocketAddr, name: &str) -> Result<Located, AskError> {
    let mut walk = Walk { passed: vec![parse_name(name)?] };
    let mut asked = server;
    loop {
        let answer = ask(asked, walk.at(), RecordType::SOA).await?;
        match walk.step(&answer) {
            Step::Found(zone) => return Ok(Located { name: plain(walk.at()), zone }),
            Step::On => {}
            Step::Silent if asked != otherwise => asked = otherwise,
            Step::Silent => {
                let at = plain(walk.at());
                let what = match answer.metadata.response_code {
                    ResponseCode::NoError | ResponseCode::NXDomain => format!("no zone that {at} lies in"),
                    code => format!("{code} when asked for the zone of {at}"),
                };
                return Err(AskError::BadAnswer { server: asked, what });
            }
            Step::Bad(what) => return Err(AskError::BadAnswer { server: asked, what }),
        }
    }
}

/// Finds the zone that a CNAME record goes into, wherever it or such records above it lead. Names that the server does not
/// answer for are asked of `otherwise`.
///
/// # Errors
/// When a server does not answer, or no zone is found up to the root.
#[boxed]
pub async fn zone_of(server: SocketAddr, otherwise: SocketAddr, name: &str) -> Result<Zone, AskError> {
    let name = parse_name(name)?;
    for asked in if server == otherwise { vec![server] } else { vec![server, otherwise] } {
        // No zone begins at a CNAME record (RFC 1034 section 3.6.2), and where it leads need not be there.
        let mut at = name.base_name();
        while !at.is_root() {
            let answer = ask(asked, &at, RecordType::SOA).await?;
            // Behind a CNAME record stands the target's zone; one label up is the name's own, or the next CNAME record.
            let leads_away = answer.answers.iter().any(|record| matches!(record.data, RData::CNAME(_)));
            if let Some(zone) = zone_in(&answer, &at).filter(|_| !leads_away) {
                return Ok(zone);
            }
            at = at.base_name();
        }
    }
    Err(AskError::BadAnswer { server, what: format!("no zone that {} lies in", plain(&name)) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exchange::question;
    use hickory_proto::rr::Record;
    use hickory_proto::rr::rdata::{CNAME, SOA};

    fn name(text: &str) -> Name {
        parse_name(text).unwrap()
    }

    /// An answer with CNAME records and perhaps the SOA record of a zone.
    fn answer(links: &[(&str, &str)], zone: Option<&str>, code: ResponseCode) -> Message {
        let mut message = question(&name("x.example"), RecordType::SOA);
        message.metadata.response_code = code;
        for (from, to) in links {
            message.answers.push(Record::from_rdata(name(from), 60, RData::CNAME(CNAME(name(to)))));
        }
        if let Some(zone) = zone {
            let soa = SOA::new(name("ns1.example"), name("keeper.example"), 1, 60, 60, 60, 60);
            message.authorities.push(Record::from_rdata(name(zone), 60, RData::SOA(soa)));
        }
        message
    }

    #[test]
    fn each_answer_takes_the_walk_on_or_ends_it() {
        let found = |zone: &str| Step::Found(Zone { name: zone.into(), primary: "ns1.example".into() });
        let long: Vec<(String, String)> =
            (0..12).map(|n| (format!("n{n}.example"), format!("n{}.example", n + 1))).collect();
        let long: Vec<(&str, &str)> = long.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
        let ok = ResponseCode::NoError;
        for (begin, given, wanted, at) in [
            ("a.example", answer(&[], Some("example"), ok), found("example"), "a.example"),
            ("a.example", answer(&[], Some("test"), ok), Step::Silent, "a.example"),
            ("a.example", answer(&[], Some("example"), ResponseCode::NXDomain), found("example"), "a.example"),
            (
                "a.example",
                answer(&[("a.example", "b.test")], Some("example"), ResponseCode::ServFail),
                Step::Silent,
                "a.example",
            ),
            ("a.example", answer(&[("a.example", "b.test")], None, ok), Step::On, "b.test"),
            (
                "a.example",
                answer(&[("b.test", "c.test"), ("a.example", "b.test")], Some("test"), ok),
                found("test"),
                "c.test",
            ),
        ] {
            let mut walk = Walk { passed: vec![name(begin)] };
            assert_eq!((walk.step(&given), plain(walk.at())), (wanted, at.to_owned()), "{begin}");
        }
        // a leads to x, and x and y to each other.
        let circle = [("a.example", "x.example"), ("x.example", "y.example"), ("y.example", "x.example")];
        for (links, said) in [(&circle[..], "in a circle at x.example"), (&long[..], "do not end after 8 steps")] {
            let mut walk = Walk { passed: vec![name(links[0].0)] };
            let Step::Bad(what) = walk.step(&answer(links, Some("example"), ok)) else { panic!("{said}") };
            assert!(what.contains(said), "{what}");
        }
    }
}
