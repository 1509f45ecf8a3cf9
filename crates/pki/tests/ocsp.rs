//! Questions about revocation that OpenSSL's responder answers.

use crate::{EC, Makers, openssl};
use eskort_pki::{OcspError, OcspQuestion, OcspStatus};
use jiff::{SignedDuration, Timestamp};

/// Two certificates of one authority, a responder that it lets answer, and one that only its name fits.
fn made() -> Makers {
    let made = Makers::new();
    let extensions = made.text("ext") + "[answers]\nextendedKeyUsage=OCSPSigning\n";
    std::fs::write(made.0.path().join("ext"), extensions).unwrap();
    made.root("root", "Harbour", EC);
    made.root("other", "Harbour", EC);
    let mut index = String::new();
    for (name, part, state) in
        [("good", "leaf", "V\t300101000000Z\t"), ("bad", "leaf", "R\t300101000000Z\t260301000000Z,keyCompromise")]
    {
        made.request(name, name, EC);
        let serial = made.sign(name, "root", name, part, "-days 9").serial;
        index += &format!("{state}\t{}\tunknown\t/CN={name}\n", serial.to_uppercase());
    }
    std::fs::write(made.0.path().join("index"), index).unwrap();
    for (name, part, above) in [("lets", "answers", "root"), ("plain", "leaf", "root"), ("strange", "answers", "other")]
    {
        made.request(name, name, EC);
        made.sign(name, above, name, part, "-days 9");
    }
    made
}

#[test]
fn openssls_responder_understands_us_and_only_those_who_may_are_believed() {
    let made = made();
    let root = made.read("root");
    let now = Timestamp::now();
    let answer = |question: &OcspQuestion, signer: &str, more: &str| {
        std::fs::write(made.0.path().join("asked"), question.request()).unwrap();
        let signer = format!("-rsigner {signer}.pem -rkey {signer}.key");
        openssl(made.0.path(), &format!("ocsp -index index -CA root.pem {signer} -reqin asked -respout answer {more}"));
        std::fs::read(made.0.path().join("answer")).unwrap()
    };
    let about = |name: &str| OcspQuestion::about(&made.read(name), &root).unwrap();
    let (good, bad) = (about("good"), about("bad"));
    for signer in ["root", "lets"] {
        let said = good.read(&answer(&good, signer, "-ndays 3"), now).unwrap();
        assert!(matches!(said, OcspStatus::Good { next: Some(next) } if next > now), "{signer}: {said:?}");
        let said = bad.read(&answer(&bad, signer, ""), now).unwrap();
        assert_eq!(said.revoked().and_then(|entry| entry.reason), Some(1), "{signer}");
    }
    for signer in ["plain", "strange"] {
        assert_eq!(good.read(&answer(&good, signer, "-ndays 3"), now), Err(OcspError::Foreign), "{signer}");
    }
    let whole = answer(&good, "lets", "-ndays 3");
    assert_eq!(bad.read(&whole, now), Err(OcspError::Other));
    let signed = answer(&good, "root", "-ndays 3");
    for days in [-1, 4] {
        let then = now + SignedDuration::from_hours(24 * days);
        assert_eq!(good.read(&signed, then), Err(OcspError::Stale), "{days}");
    }
    // Whom the issuer lets answer is believed no longer than its certificate says.
    let much_later = now + SignedDuration::from_hours(24 * 10);
    assert_eq!(good.read(&answer(&good, "lets", "-ndays 20"), much_later), Err(OcspError::Foreign));
    // Changed anywhere, it says nothing else.
    let unchanged = good.read(&whole, now);
    for at in 0..whole.len() {
        let mut changed = whole.clone();
        changed[at] ^= 0x55;
        let said = good.read(&changed, now);
        assert!(said.is_err() || said == unchanged, "{at}: {said:?}");
        let _ = good.read(&whole[..at], now).unwrap_err();
    }
}
