//! Which authorities a domain lets issue (RFC 8659), in which ways and for whom (RFC 8657).

/// A CAA record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CaaRecord {
    /// Whether who does not know the tag must not issue.
    pub critical: bool,
    /// The tag, in small letters.
    pub tag: String,
    /// The value.
    pub value: String,
}

/// What an authority is about to do.
#[derive(Clone, Copy, Debug)]
pub struct Issuance<'a> {
    /// The domain names by which the authority goes in CAA records (`caaIdentities` of its directory).
    pub identities: &'a [String],
    /// Whether it is for a wildcard.
    pub wildcard: bool,
    /// The address of the account, where it is known.
    pub account: Option<&'a str>,
    /// The challenge by which control is shown.
    pub method: &'a str,
}

/// What the records of a domain say about that.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CaaVerdict {
    /// It may.
    Allowed,
    /// Others may: these. Nobody, where there are none.
    Others(Vec<String>),
    /// It may for other accounts only.
    OtherAccount(Vec<String>),
    /// It may in other ways only.
    OtherMethod(Vec<String>),
    /// A record that has to be understood is of a kind that is not known here.
    Unknown(String),
}

/// Tags that are known: those of RFC 8659 section 4, and others that do not concern who may issue for a host.
const KNOWN: [&str; 6] = ["issue", "issuewild", "iodef", "contactemail", "contactphone", "issuemail"];

/// Judges the records of a domain, those that the tree walk of RFC 8659 section 3 has found.
pub fn judge(records: &[CaaRecord], issuance: &Issuance<'_>) -> CaaVerdict {
    if let Some(unknown) = records.iter().find(|record| record.critical && !KNOWN.contains(&&*record.tag)) {
        return CaaVerdict::Unknown(unknown.tag.clone());
    }
    let of = |tag: &str| records.iter().filter(|record| record.tag == tag).collect::<Vec<_>>();
    // Section 4.3: `issuewild` counts for wildcards alone, and before `issue`.
    let wild = if issuance.wildcard { of("issuewild") } else { Vec::new() };
    let relevant = if wild.is_empty() { of("issue") } else { wild };
    if relevant.is_empty() {
        return CaaVerdict::Allowed;
    }
    let parsed: Vec<(String, Vec<(String, String)>)> = relevant.iter().map(|record| parse(&record.value)).collect();
    let is_ours = |domain: &str| issuance.identities.iter().any(|own| own.eq_ignore_ascii_case(domain));
    let ours: Vec<_> = parsed.iter().filter(|(domain, _)| is_ours(domain)).collect();
    if ours.is_empty() {
        let others = parsed.iter().map(|(domain, _)| domain.clone()).filter(|domain| !domain.is_empty()).collect();
        return CaaVerdict::Others(others);
    }
    let (mut accounts, mut methods) = (Vec::new(), Vec::new());
    for (_, parameters) in ours {
        let parameter = |name: &str| parameters.iter().find(|(key, _)| key == name).map(|(_, value)| value.clone());
        let account = parameter("accounturi");
        let fits_account = account.as_deref().is_none_or(|wanted| issuance.account.is_none_or(|ours| ours == wanted));
        let ways = parameter("validationmethods");
        let fits_method = ways.as_deref().is_none_or(|ways| ways.split(',').any(|way| way.trim() == issuance.method));
        if fits_account && fits_method {
            return CaaVerdict::Allowed;
        }
        accounts.extend(account.filter(|_| !fits_account));
        methods.extend(ways.filter(|_| !fits_method));
    }
    if methods.is_empty() { CaaVerdict::OtherAccount(accounts) } else { CaaVerdict::OtherMethod(methods) }
}

/// Reads the value of `issue`: a domain, perhaps empty, and parameters (RFC 8659 section 4.2).
fn parse(value: &str) -> (String, Vec<(String, String)>) {
    let mut parts = value.split(';').map(str::trim);
    let domain = parts.next().unwrap_or_default().to_ascii_lowercase();
    let parameter = |part: &str| {
        let (key, value) = part.split_once('=')?;
        Some((key.trim().to_ascii_lowercase(), value.trim().to_owned()))
    };
    (domain, parts.filter_map(parameter).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_are_judged_as_authorities_do() {
        use CaaVerdict::*;
        let record = |text: &str| {
            let (tag, value) = text.split_once(' ').unwrap();
            let (critical, tag) = tag.strip_prefix('!').map_or((false, tag), |tag| (true, tag));
            CaaRecord { critical, tag: tag.into(), value: value.into() }
        };
        let list = |texts: &[&str]| texts.iter().map(|text| (*text).to_owned()).collect::<Vec<_>>();
        for (records, wildcard, wanted) in [
            (&[][..], false, Allowed),
            (&["issue ca.example"], false, Allowed),
            (&["issue CA.example; x=y"], true, Allowed),
            (&["issue ;"], false, Others(vec![])),
            (&["issue other.example", "issue third.example"], false, Others(list(&["other.example", "third.example"]))),
            (&["issuewild other.example"], false, Allowed),
            (&["issuewild other.example", "issue ca.example"], true, Others(list(&["other.example"]))),
            (&["iodef mailto:keeper@lampholm.example"], false, Allowed),
            (&["!future x", "issue ca.example"], false, Unknown("future".into())),
            (&["future x", "issue ca.example"], false, Allowed),
            (&["issue ca.example; validationmethods=dns-01,x"], false, OtherMethod(list(&["dns-01,x"]))),
            (&["issue ca.example; validationmethods=dns-01, http-01"], false, Allowed),
            (
                &["issue ca.example;accounturi=https://ca.example/a/2"],
                false,
                OtherAccount(list(&["https://ca.example/a/2"])),
            ),
            (&["issue ca.example; accounturi=https://ca.example/a/2", "issue ca.example"], false, Allowed),
        ] {
            let records: Vec<CaaRecord> = records.iter().map(|text| record(text)).collect();
            let identities = ["old.example".to_owned(), "ca.example".to_owned()];
            let account = Some("https://ca.example/a/1");
            let issuance = Issuance { identities: &identities, wildcard, account, method: "http-01" };
            assert_eq!(judge(&records, &issuance), wanted, "{records:?}");
        }
    }
}
