//! Puts a chain together from certificates in any order: from a leaf towards what visitors trust.

use crate::certificate::SignatureCheck;
use crate::{Certificate, Chain, ChainFault};
use jiff::Timestamp;
use std::cmp::Reverse;
use std::collections::{BTreeMap, VecDeque};
use std::fmt;

/// So many signatures are checked for one chain: more than any authority's certificates need.
const MOST_CHECKS: usize = 128;
/// A chain is no longer than this.
const LONGEST: usize = 8;

/// What visitors trust: names of authorities, each with its keys.
#[derive(Clone, Debug, Default)]
pub struct Anchors {
    keys: BTreeMap<Vec<u8>, Vec<Vec<u8>>>,
}

impl Anchors {
    /// Adds a trusted authority: its name and its SubjectPublicKeyInfo, both in DER.
    pub fn add(&mut self, subject_der: Vec<u8>, spki_der: Vec<u8>) {
        self.keys.entry(subject_der).or_default().push(spki_der);
    }

    /// Returns whether an authority is among them.
    pub fn has(&self, subject_der: &[u8], spki_der: &[u8]) -> bool {
        self.of(subject_der).iter().any(|key| key == spki_der)
    }

    fn of(&self, subject_der: &[u8]) -> &[Vec<u8>] {
        self.keys.get(subject_der).map_or(&[], Vec::as_slice)
    }
}

/// A chain that was put together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AssembledChain {
    /// The chain, as far as it goes.
    pub chain: Chain,
    /// The issuer of the leaf, when it is not among the certificates: visitors would not trust the leaf alone.
    pub missing: Option<String>,
    /// Why the chain must not be used.
    pub fault: Option<ChainFault>,
    /// What is worth knowing.
    pub notes: Vec<ChainNote>,
}

/// What is worth knowing about a chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ChainNote {
    /// A signature of a kind that is not known here; name and key identifier fit.
    Unchecked {
        /// Whose signature.
        issuer: String,
        /// The algorithm's object identifier.
        algorithm: String,
    },
    /// No other way leads on than one over a certificate that has run out.
    Expired {
        /// What it is for.
        title: String,
    },
    /// There are more issuers than are tried.
    TooMany,
}

impl fmt::Display for ChainNote {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ChainNote::Unchecked { issuer, algorithm } => {
                write!(
                    f,
                    "the signature by `{issuer}` ({algorithm}) cannot be checked here; its name and key identifier match"
                )
            }
            ChainNote::Expired { title } => write!(f, "`{title}` in the chain has expired, and no other path exists"),
            ChainNote::TooMany => write!(f, "there are too many interchangeable issuers to try them all"),
        }
    }
}

/// Puts a leaf's chain together from certificates in any order: each is signed with the key of the next, and the next bears the
/// issuer's name. Of several ways the one over authorities that are good at `now` is taken, then one that leads to an anchor, then
/// one that leads to a root among the certificates, then the shortest, then the one that lasts longest. A root at the end is left
/// out, since visitors have it or do not trust it.
pub fn assemble(leaf: Certificate, pool: &[Certificate], anchors: &Anchors, now: Timestamp) -> AssembledChain {
    let mut search = Search::new(pool, anchors);
    let strict = search.run(&leaf, Some(now));
    let found = if strict.end >= End::Root {
        strict
    } else {
        let lax = search.run(&leaf, None);
        if lax.end > strict.end || strict.way.is_empty() { lax } else { strict }
    };
    let above: Vec<Certificate> = found.way.iter().map(|c| (*c).clone()).collect();
    let mut notes: Vec<ChainNote> = above
        .iter()
        .filter(|c| c.not_after <= now)
        .map(|c| ChainNote::Expired { title: c.subject_or_title() })
        .collect();
    notes.extend(found.unchecked);
    if search.left == 0 {
        notes.push(ChainNote::TooMany);
    }
    let last = above.last().unwrap_or(&leaf);
    let ends_here = found.end == End::Nowhere && !last.is_self_issued();
    let fault = if ends_here { search.fault(last) } else { None };
    let missing =
        (above.is_empty() && found.end == End::Nowhere && !leaf.is_self_issued()).then(|| leaf.issuer.clone());
    let mut certificates = vec![leaf];
    certificates.extend(above);
    AssembledChain { chain: Chain::of(certificates), missing, fault, notes }
}

/// How a way ends; better ones last.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum End {
    Nowhere,
    Root,
    Anchor,
}

/// An authority on the way, and the certificate of it that was taken.
#[derive(Clone, Copy)]
struct Hop<'c> {
    node: usize,
    by: &'c Certificate,
}

/// How an authority was reached: from which one (none for the leaf), and how far it is.
struct Reached<'c> {
    from: Option<Hop<'c>>,
    depth: usize,
}

struct Way<'c> {
    way: Vec<&'c Certificate>,
    end: End,
    unchecked: Vec<ChainNote>,
}

/// An authority: all certificates with one name and one key.
struct Node<'c> {
    certificates: Vec<&'c Certificate>,
}

struct Search<'c, 'a> {
    nodes: Vec<Node<'c>>,
    by_subject: BTreeMap<&'c [u8], Vec<usize>>,
    anchors: &'a Anchors,
    /// Signatures that were checked, by the certificate's digest and the issuer's key.
    checked: BTreeMap<([u8; 32], Vec<u8>), SignatureCheck>,
    left: usize,
}

impl<'c, 'a> Search<'c, 'a> {
    fn new(pool: &'c [Certificate], anchors: &'a Anchors) -> Self {
        let mut grouped: BTreeMap<(&[u8], &[u8]), Vec<&Certificate>> = BTreeMap::new();
        for certificate in pool {
            grouped.entry((certificate.subject_der(), certificate.public_key())).or_default().push(certificate);
        }
        let mut search = Search {
            nodes: Vec::new(),
            by_subject: BTreeMap::new(),
            anchors,
            checked: BTreeMap::new(),
            left: MOST_CHECKS,
        };
        for ((subject, _), mut certificates) in grouped {
            // The same whatever the order they came in.
            certificates.sort_by_cached_key(|c| (Reverse(c.not_after), c.fingerprint()));
            search.by_subject.entry(subject).or_default().push(search.nodes.len());
            search.nodes.push(Node { certificates });
        }
        search
    }

    fn check(&mut self, certificate: &Certificate, spki: &[u8]) -> SignatureCheck {
        let key = (certificate.fingerprint().bytes(), spki.to_vec());
        if let Some(known) = self.checked.get(&key) {
            return *known;
        }
        let Some(left) = self.left.checked_sub(1) else { return SignatureCheck::Invalid };
        self.left = left;
        let found = certificate.check_signature(spki);
        self.checked.insert(key, found);
        found
    }

    /// Returns the authorities that may have signed a certificate, likely ones first.
    fn issuers(&self, of: &Certificate) -> Vec<usize> {
        let mut found = self.by_subject.get(of.issuer_der()).cloned().unwrap_or_default();
        found.sort_by_key(|node| Reverse(self.nodes[*node].certificates[0].fits_key_id(of)));
        found
    }

    /// Goes breadth first from the leaf; with `now` only over authorities that are good then.
    fn run(&mut self, leaf: &Certificate, now: Option<Timestamp>) -> Way<'c> {
        let mut reached: BTreeMap<usize, Reached<'c>> = BTreeMap::new();
        let mut unchecked: BTreeMap<usize, ChainNote> = BTreeMap::new();
        let mut queue: VecDeque<Option<usize>> = VecDeque::from([None]);
        let mut root = None;
        let mut farthest: Option<(usize, usize)> = None;
        while let Some(at) = queue.pop_front() {
            let depth = at.map_or(0, |node| reached[&node].depth);
            let good = |c: &&'c Certificate| c.is_ca && now.is_none_or(|now| c.not_before <= now && now < c.not_after);
            let certificates: Vec<Option<&'c Certificate>> = match at {
                None => vec![None],
                Some(node) => self.nodes[node].certificates.iter().copied().filter(good).map(Some).collect(),
            };
            for own in certificates {
                let certificate = own.unwrap_or(leaf);
                if certificate.is_self_issued() {
                    root = root.or(at);
                    continue;
                }
                let from = at.zip(own).map(|(node, by)| Hop { node, by });
                // What visitors have themselves need not be sent.
                for spki in self.anchors.of(certificate.issuer_der()) {
                    if self.check(certificate, spki) == SignatureCheck::Valid {
                        return self.way(&reached, &unchecked, from, End::Anchor);
                    }
                }
                if at.is_some() && farthest.is_none_or(|(_, far)| depth > far) {
                    farthest = at.map(|node| (node, depth));
                }
                for node in self.issuers(certificate) {
                    if depth + 1 > LONGEST || reached.contains_key(&node) {
                        continue;
                    }
                    let issuer = self.nodes[node].certificates[0];
                    match self.check(certificate, issuer.public_key()) {
                        SignatureCheck::Valid => {}
                        SignatureCheck::Unknown(algorithm) if issuer.fits_key_id(certificate) != Some(false) => {
                            let (issuer, algorithm) = (issuer.subject_or_title(), algorithm.to_string());
                            unchecked.insert(node, ChainNote::Unchecked { issuer, algorithm });
                        }
                        SignatureCheck::Unknown(_) | SignatureCheck::Invalid => continue,
                    }
                    if !self.nodes[node].certificates.iter().any(good) {
                        continue;
                    }
                    reached.insert(node, Reached { from, depth: depth + 1 });
                    queue.push_back(Some(node));
                }
            }
        }
        match (root, farthest) {
            // The root itself is left out.
            (Some(root), _) => self.way(&reached, &unchecked, reached[&root].from, End::Root),
            (None, Some((node, _))) => {
                let good =
                    |c: &&&'c Certificate| c.is_ca && now.is_none_or(|now| c.not_before <= now && now < c.not_after);
                let last = self.nodes[node].certificates.iter().find(good).copied();
                self.way(&reached, &unchecked, last.map(|by| Hop { node, by }), End::Nowhere)
            }
            (None, None) => Way { way: Vec::new(), end: End::Nowhere, unchecked: unchecked.into_values().collect() },
        }
    }

    /// Returns the certificates from the leaf's issuer up to and with one.
    fn way(
        &self,
        reached: &BTreeMap<usize, Reached<'c>>,
        unchecked: &BTreeMap<usize, ChainNote>,
        last: Option<Hop<'c>>,
        end: End,
    ) -> Way<'c> {
        let mut way = Vec::new();
        let mut notes = Vec::new();
        let mut at = last;
        while let Some(Hop { node, by }) = at {
            way.push(by);
            notes.extend(unchecked.get(&node).cloned());
            at = reached[&node].from;
        }
        way.reverse();
        notes.reverse();
        Way { way, end, unchecked: notes }
    }

    /// Says why a way ends here, though something with the issuer's name lies beside it.
    fn fault(&mut self, last: &Certificate) -> Option<ChainFault> {
        let issuer = last.issuer.clone();
        let title = last.subject_or_title();
        let nodes = self.issuers(last);
        let only_one = nodes.len() == 1;
        for node in nodes {
            let beside = self.nodes[node].certificates[0];
            let is_its_own = beside.fits_key_id(last).unwrap_or(only_one);
            match self.check(last, beside.public_key()) {
                SignatureCheck::Valid if !self.nodes[node].certificates.iter().any(|c| c.is_ca) => {
                    return Some(ChainFault::IssuerIsNoAuthority { issuer });
                }
                SignatureCheck::Invalid if is_its_own && self.left > 0 => {
                    return Some(ChainFault::Damaged { title, issuer });
                }
                _ => {}
            }
        }
        None
    }
}
