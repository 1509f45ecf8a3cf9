//! What has to be said before TLS begins (STARTTLS and the like), and what it is that answers without TLS.

use crate::PATIENCE;
use std::fmt;
use std::io;
use std::net::SocketAddr;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

/// How long something that greets takes to do so.
const GREETING: Duration = Duration::from_millis(800);
/// No line and no answer of these protocols is longer.
const LONGEST: usize = 4096;
const MOST_LINES: usize = 100;

/// What words are exchanged over.
pub(crate) trait Talk: AsyncRead + AsyncWrite + Unpin + Send {}

impl<T: AsyncRead + AsyncWrite + Unpin + Send> Talk for T {}

/// A protocol in which TLS begins after some words.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StartTls {
    /// Mail between servers (RFC 3207).
    Smtp,
    /// Mailboxes (RFC 9051 section 6.2.1).
    Imap,
    /// Mailboxes in the older way (RFC 2595 section 4).
    Pop3,
    /// Files (RFC 4217).
    Ftp,
    /// Directories (RFC 4511 section 4.14).
    Ldap,
    /// PostgreSQL.
    Postgres,
    /// MySQL and MariaDB.
    Mysql,
    /// Rules for a mailbox (RFC 5804 section 2.2).
    ManageSieve,
    /// News (RFC 4642).
    Nntp,
    /// Messages, for their clients (RFC 6120 section 5).
    Xmpp,
    /// The same, between servers.
    XmppServer,
}

impl StartTls {
    /// Returns the protocol that is usual on a port.
    pub fn usual(port: u16) -> Option<Self> {
        Some(match port {
            25 | 587 => StartTls::Smtp,
            143 => StartTls::Imap,
            110 => StartTls::Pop3,
            21 => StartTls::Ftp,
            389 => StartTls::Ldap,
            5432 => StartTls::Postgres,
            3306 => StartTls::Mysql,
            4190 => StartTls::ManageSieve,
            119 => StartTls::Nntp,
            5222 => StartTls::Xmpp,
            5269 => StartTls::XmppServer,
            _ => return None,
        })
    }

    /// Returns what speaks it, in words.
    pub fn words(self) -> &'static str {
        match self {
            StartTls::Smtp => "a mail server (SMTP)",
            StartTls::Imap => "a mailbox server (IMAP)",
            StartTls::Pop3 => "a mailbox server (POP3)",
            StartTls::Ftp => "an FTP server",
            StartTls::Ldap => "a directory server (LDAP)",
            StartTls::Postgres => "a database (PostgreSQL)",
            StartTls::Mysql => "a database (MySQL or MariaDB)",
            StartTls::ManageSieve => "a server for mail rules (ManageSieve)",
            StartTls::Nntp => "a news server (NNTP)",
            StartTls::Xmpp | StartTls::XmppServer => "a message server (XMPP)",
        }
    }

    /// Says what makes the server of a name begin TLS.
    pub(crate) async fn begin(self, stream: &mut impl Talk, name: &str) -> io::Result<()> {
        let talk = async {
            match self {
                StartTls::Smtp => {
                    reply(stream, "220").await?;
                    stream.write_all(b"EHLO localhost\r\n").await?;
                    reply(stream, "250").await?;
                    stream.write_all(b"STARTTLS\r\n").await?;
                    reply(stream, "220").await
                }
                StartTls::Imap => {
                    expect(&line(stream).await?, "* ")?;
                    stream.write_all(b"a STARTTLS\r\n").await?;
                    for _ in 0..MOST_LINES {
                        let said = line(stream).await?;
                        if said.starts_with("a ") {
                            return expect(&said, "a OK");
                        }
                    }
                    Err(odd("more lines than an answer has"))
                }
                StartTls::Pop3 => {
                    expect(&line(stream).await?, "+OK")?;
                    stream.write_all(b"STLS\r\n").await?;
                    expect(&line(stream).await?, "+OK")
                }
                StartTls::Ftp => {
                    reply(stream, "220").await?;
                    stream.write_all(b"AUTH TLS\r\n").await?;
                    reply(stream, "234").await
                }
                StartTls::Ldap => {
                    // An extended request with the name of StartTLS.
                    let head = [0x30, 0x1d, 0x02, 0x01, 0x01, 0x77, 0x18, 0x80, 0x16];
                    stream.write_all(&[&head[..], b"1.3.6.1.4.1.1466.20037"].concat()).await?;
                    let answer = some(stream).await?;
                    let success = answer.windows(3).any(|bytes| bytes == [0x0a, 0x01, 0x00]);
                    if answer.first() == Some(&0x30) && success { Ok(()) } else { Err(odd("it refuses StartTLS")) }
                }
                StartTls::Postgres => {
                    stream.write_all(&[0, 0, 0, 8, 0x04, 0xd2, 0x16, 0x2f]).await?;
                    match stream.read_u8().await? {
                        b'S' => Ok(()),
                        b'N' => Err(odd("it has no TLS")),
                        _ => Err(odd("it is not a PostgreSQL server")),
                    }
                }
                StartTls::ManageSieve => {
                    until_ok(stream).await?;
                    stream.write_all(b"STARTTLS\r\n").await?;
                    until_ok(stream).await
                }
                StartTls::Nntp => {
                    expect(&line(stream).await?, "20")?;
                    stream.write_all(b"STARTTLS\r\n").await?;
                    expect(&line(stream).await?, "382")
                }
                StartTls::Xmpp => begin_xmpp(stream, "client", name).await,
                StartTls::XmppServer => begin_xmpp(stream, "server", name).await,
                StartTls::Mysql => {
                    let greeting = some(stream).await?;
                    // The lower half of what it can do stands behind version, thread and the first part of the salt.
                    let version = greeting.get(5..).and_then(|rest| rest.iter().position(|b| *b == 0));
                    let able = version.and_then(|end| greeting.get(5 + end + 14..5 + end + 16));
                    if able.is_none_or(|able| u16::from_le_bytes([able[0], able[1]]) & 0x0800 == 0) {
                        return Err(odd("it has no TLS"));
                    }
                    let mut request = vec![32, 0, 0, 1, 0x00, 0x8a, 0x00, 0x00, 0, 0, 0, 1, 45];
                    request.resize(36, 0);
                    stream.write_all(&request).await
                }
            }
        };
        timeout(PATIENCE, talk).await.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))
    }
}

/// For fuzzing: talks with a server that says these bytes, whatever it is told; the first chooses the protocol.
#[cfg(fuzzing)]
pub fn talk_with(bytes: &[u8]) {
    const KINDS: [StartTls; 11] = [
        StartTls::Smtp,
        StartTls::Imap,
        StartTls::Pop3,
        StartTls::Ftp,
        StartTls::Ldap,
        StartTls::Postgres,
        StartTls::Mysql,
        StartTls::ManageSieve,
        StartTls::Nntp,
        StartTls::Xmpp,
        StartTls::XmppServer,
    ];
    let Some((first, said)) = bytes.split_first() else { return };
    let runtime =
        tokio::runtime::Builder::new_current_thread().enable_time().build().expect("the system gives a clock");
    let mut stream = tokio::io::join(said, tokio::io::sink());
    let begun = KINDS[usize::from(*first) % KINDS.len()].begin(&mut stream, "lampholm.example");
    let _ = runtime.block_on(begun);
}

/// Opens a stream for clients or servers of a name, and asks for TLS in it (RFC 6120 section 5.4).
async fn begin_xmpp(stream: &mut impl Talk, of: &str, name: &str) -> io::Result<()> {
    // What stands between quotes has to be a name.
    let to: String = name.chars().filter(|c| c.is_ascii_alphanumeric() || "-.:".contains(*c)).collect();
    let opens = format!(
        "<?xml version='1.0'?><stream:stream to='{to}' version='1.0' xmlns='jabber:{of}' xmlns:stream='http://etherx.jabber.org/streams'>"
    );
    stream.write_all(opens.as_bytes()).await?;
    until(stream, b"</stream:features>").await?;
    stream.write_all(b"<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>").await?;
    until(stream, b"<proceed").await?;
    until(stream, b">").await
}

fn odd(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_owned())
}

fn expect(said: &str, wanted: &str) -> io::Result<()> {
    let shown = || eskort_core::words::printable(said.trim(), 80);
    if said.starts_with(wanted) { Ok(()) } else { Err(odd(&format!("it says `{}`", shown()))) }
}

async fn line(stream: &mut impl Talk) -> io::Result<String> {
    let mut bytes = Vec::new();
    while bytes.last() != Some(&b'\n') {
        bytes.push(stream.read_u8().await?);
        if bytes.len() > LONGEST {
            return Err(odd("a line without an end"));
        }
    }
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// Reads an answer of one line or several, as SMTP and FTP have them.
async fn reply(stream: &mut impl Talk, code: &str) -> io::Result<()> {
    for _ in 0..MOST_LINES {
        let said = line(stream).await?;
        expect(&said, code)?;
        if said.as_bytes().get(3) != Some(&b'-') {
            return Ok(());
        }
    }
    Err(odd("more lines than an answer has"))
}

/// Reads lines up to the one that says that all is well (RFC 5804 section 1.2).
async fn until_ok(stream: &mut impl Talk) -> io::Result<()> {
    for _ in 0..MOST_LINES {
        let said = line(stream).await?;
        if ["OK", "NO", "BYE"].iter().any(|word| said.starts_with(word)) {
            return expect(&said, "OK");
        }
    }
    Err(odd("more lines than an answer has"))
}

/// Reads up to some bytes.
async fn until(stream: &mut impl Talk, end: &[u8]) -> io::Result<()> {
    let mut seen = Vec::new();
    while !seen.ends_with(end) {
        seen.push(stream.read_u8().await?);
        if seen.len() > LONGEST * 4 {
            return Err(odd("an answer without an end"));
        }
    }
    Ok(())
}

async fn some(stream: &mut impl Talk) -> io::Result<Vec<u8>> {
    let mut buffer = vec![0; LONGEST];
    let length = stream.read(&mut buffer).await?;
    buffer.truncate(length);
    if length == 0 { Err(io::ErrorKind::UnexpectedEof.into()) } else { Ok(buffer) }
}

/// Why no TLS handshake came about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoTls {
    /// It speaks HTTP without TLS.
    PlainHttp,
    /// It speaks something that begins TLS after some words, and refuses to.
    Refuses(StartTls, String),
    /// It is something else.
    Speaks(&'static str),
    /// It closes the connection.
    Closes,
    /// It says nothing at all.
    Silent,
    /// It knows no protocol from TLS 1.2 on.
    OldProtocols,
    /// It takes none of the ciphers that are any good.
    NoCommonCipher,
    /// It has nothing for this name.
    UnknownName,
    /// It wants the visitor to show a certificate.
    WantsCertificate,
    /// It sends no certificate.
    NoCertificate,
    /// A certificate that cannot be read.
    BadCertificate(String),
    /// It refuses in another way, or answers something that makes no sense.
    Odd,
}

impl NoTls {
    /// Returns a word for it that stays the same.
    pub fn code(&self) -> &'static str {
        match self {
            NoTls::PlainHttp => "plain-http",
            NoTls::Refuses(..) => "no-starttls",
            NoTls::Speaks(_) => "other-protocol",
            NoTls::Closes => "closed",
            NoTls::Silent => "silent",
            NoTls::OldProtocols => "old-protocols",
            NoTls::NoCommonCipher => "no-common-cipher",
            NoTls::UnknownName => "unknown-name",
            NoTls::WantsCertificate => "wants-certificate",
            NoTls::NoCertificate => "no-certificate",
            NoTls::BadCertificate(_) => "bad-certificate",
            NoTls::Odd => "no-tls",
        }
    }

    /// Returns what to do about it.
    pub fn advice(&self) -> &'static str {
        match self {
            NoTls::PlainHttp => {
                "turn TLS on for this port (in nginx `ssl` behind `listen`), or look at the port for https"
            }
            NoTls::Refuses(..) => "turn TLS on in this server, or look at its port that begins with TLS at once",
            NoTls::Speaks(_) => "look at the port of the service that has the certificate",
            NoTls::Closes => "it may want a name or an address that it knows; its log says why it closes",
            NoTls::Silent => "is it the right port? Its log may say what it waits for",
            NoTls::OldProtocols => "turn on TLS 1.2 and 1.3: visitors refuse what is older",
            NoTls::NoCommonCipher => {
                "let it offer the usual ciphers again, or give it a certificate for its kind of key"
            }
            NoTls::UnknownName => "give it a site with this name",
            NoTls::WantsCertificate => "it accepts only visitors with a client certificate",
            NoTls::NoCertificate | NoTls::BadCertificate(_) => "give it a certificate",
            NoTls::Odd => "its log may say more",
        }
    }
}

impl fmt::Display for NoTls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            NoTls::PlainHttp => "it speaks plain http",
            NoTls::Refuses(kind, why) => return write!(f, "it is {}, and TLS cannot be begun: {why}", kind.words()),
            NoTls::Speaks(what) => return write!(f, "it is {what}"),
            NoTls::Closes => "it closed the connection at once",
            NoTls::Silent => "it says nothing",
            NoTls::OldProtocols => "it speaks only protocols older than TLS 1.2",
            NoTls::NoCommonCipher => "it has no cipher in common with today's visitors",
            NoTls::UnknownName => "it has no site with this name",
            NoTls::WantsCertificate => "it requires a client certificate",
            NoTls::NoCertificate => "it sends no certificate",
            NoTls::BadCertificate(why) => return write!(f, "the certificate that it sends cannot be read: {why}"),
            NoTls::Odd => "what it answers is not TLS",
        })
    }
}

/// What answers on a port that does not begin with TLS.
pub(crate) enum Answers {
    /// Something that begins TLS later.
    StartTls(StartTls),
    /// Something else.
    Else(NoTls),
}

/// Finds out what it is that did not answer a handshake: listens for a greeting, then asks for a page, then whether it is a database.
pub(crate) async fn diagnose(address: SocketAddr) -> Answers {
    let connect = || async { timeout(PATIENCE, TcpStream::connect(address)).await.ok()?.ok() };
    let Some(mut stream) = connect().await else { return Answers::Else(NoTls::Closes) };
    match timeout(GREETING, some(&mut stream)).await {
        Ok(Ok(greeting)) => return greeted(&greeting),
        Ok(Err(_)) => return Answers::Else(NoTls::Closes),
        Err(_) => {}
    }
    let mut answered = false;
    if stream.write_all(b"GET / HTTP/1.0\r\n\r\n").await.is_ok()
        && let Ok(Ok(answer)) = timeout(GREETING * 2, some(&mut stream)).await
    {
        if answer.starts_with(b"HTTP/") || answer.trim_ascii_start().starts_with(b"<") {
            return Answers::Else(NoTls::PlainHttp);
        }
        answered = true;
    }
    if let Some(mut stream) = connect().await
        && stream.write_all(&[0, 0, 0, 8, 0x04, 0xd2, 0x16, 0x2f]).await.is_ok()
        && let Ok(Ok(b'S' | b'N')) = timeout(GREETING, stream.read_u8()).await
    {
        return Answers::StartTls(StartTls::Postgres);
    }
    Answers::Else(if answered { NoTls::Odd } else { NoTls::Silent })
}

/// Says who greets like this.
fn greeted(bytes: &[u8]) -> Answers {
    let text = String::from_utf8_lossy(bytes).to_ascii_uppercase();
    let has = |word: &str| text.contains(word);
    Answers::StartTls(match bytes {
        [b'2', b'2', b'0', ..] if has("FTP") && !has("SMTP") => StartTls::Ftp,
        [b'2', b'2', b'0', ..] if has("SMTP") || has("MAIL") || has("POSTFIX") || has("EXIM") => StartTls::Smtp,
        [b'2', b'2', b'0', ..] => StartTls::Ftp,
        [b'*', b' ', ..] => StartTls::Imap,
        [b'+', b'O', b'K', ..] => StartTls::Pop3,
        [b'2', b'0', b'0' | b'1', b' ', ..] => StartTls::Nntp,
        [b'"', ..] if has("\"IMPLEMENTATION\"") || has("\"STARTTLS\"") || has("\"SIEVE\"") => StartTls::ManageSieve,
        [_, _, 0, 0, 10, ..] => StartTls::Mysql,
        [b'S', b'S', b'H', b'-', ..] => return Answers::Else(NoTls::Speaks("an SSH server")),
        [b'R', b'F', b'B', b' ', ..] => return Answers::Else(NoTls::Speaks("a remote desktop (VNC)")),
        [b'H', b'T', b'T', b'P', b'/', ..] => return Answers::Else(NoTls::PlainHttp),
        _ => return Answers::Else(NoTls::Odd),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::net::TcpListener;

    #[test]
    fn who_greets_is_known_by_the_first_bytes() {
        for (greeting, wanted) in [
            (&b"220 mail.lampholm.example ESMTP ready"[..], Some(StartTls::Smtp)),
            (b"220 (vsFTPd 3.0.5)", Some(StartTls::Ftp)),
            (b"220-Welcome to the harbour's FTP", Some(StartTls::Ftp)),
            (b"* OK [CAPABILITY IMAP4rev1] ready", Some(StartTls::Imap)),
            (b"+OK ready", Some(StartTls::Pop3)),
            (b"201 news", Some(StartTls::Nntp)),
            (b"\"IMPLEMENTATION\" \"Sieve\"\r\n", Some(StartTls::ManageSieve)),
            (b"\x4a\x00\x00\x00\x0a5.5.5-10.11", Some(StartTls::Mysql)),
            (b"SSH-2.0-x", None),
            (b"HTTP/1.0 400 Bad", None),
            (b"noise", None),
        ] {
            let found = match greeted(greeting) {
                Answers::StartTls(kind) => Some(kind),
                Answers::Else(_) => None,
            };
            assert_eq!(found, wanted, "{}", String::from_utf8_lossy(greeting));
        }
    }

    /// What a server waits for, and what it says then.
    type Script = &'static [(&'static str, &'static [u8])];

    /// A server that says and expects these things by turns.
    async fn scripted(lines: Script) -> TcpStream {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            for (heard, said) in lines {
                if !heard.is_empty() {
                    let mut buffer = vec![0; heard.len()];
                    stream.read_exact(&mut buffer).await.unwrap();
                    assert_eq!(String::from_utf8_lossy(&buffer), *heard);
                }
                stream.write_all(said).await.unwrap();
            }
            // Until the other end has gone.
            let _ = stream.read(&mut [0]).await;
        });
        TcpStream::connect(address).await.unwrap()
    }

    #[tokio::test]
    async fn each_protocol_is_brought_to_tls_in_its_own_words() {
        const SMTP: Script = &[
            ("", b"220-a\r\n220 b ESMTP\r\n"),
            ("EHLO localhost\r\n", b"250-x\r\n250 STARTTLS\r\n"),
            ("STARTTLS\r\n", b"220 go\r\n"),
        ];
        const IMAP: Script = &[("", b"* OK\r\n"), ("a STARTTLS\r\n", b"* note\r\na OK go\r\n")];
        const POP3: Script = &[("", b"+OK\r\n"), ("STLS\r\n", b"+OK go\r\n")];
        const FTP: Script = &[("", b"220 FTP\r\n"), ("AUTH TLS\r\n", b"234 go\r\n")];
        const LDAP: Script = &[("0", b"\x30\x0c\x02\x01\x01\x78\x07\x0a\x01\x00\x04\x00\x04\x00")];
        const SIEVE: Script =
            &[("", b"\"IMPLEMENTATION\" \"x\"\r\n\"STARTTLS\"\r\nOK\r\n"), ("STARTTLS\r\n", b"OK \"go\"\r\n")];
        const NEWS: Script = &[("", b"200 news\r\n"), ("STARTTLS\r\n", b"382 go\r\n")];
        const CHAT: Script = &[
            (
                "<?xml version='1.0'?><stream:stream to='lampholm.example' version='1.0' xmlns='jabber:client' xmlns:stream='http://etherx.jabber.org/streams'>",
                b"<?xml version='1.0'?><stream:stream><stream:features><starttls/></stream:features>",
            ),
            (
                "<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>",
                b"<proceed xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>",
            ),
        ];
        const REFUSES: Script = &[("", b"220 FTP\r\n"), ("AUTH TLS\r\n", b"530 no\x1b\r\n")];
        for (kind, script) in [
            (StartTls::Smtp, SMTP),
            (StartTls::Imap, IMAP),
            (StartTls::Pop3, POP3),
            (StartTls::Ftp, FTP),
            (StartTls::Ldap, LDAP),
            (StartTls::ManageSieve, SIEVE),
            (StartTls::Nntp, NEWS),
            (StartTls::Xmpp, CHAT),
        ] {
            kind.begin(&mut scripted(script).await, "lampholm.example")
                .await
                .unwrap_or_else(|error| panic!("{kind:?}: {error}"));
        }
        let said = StartTls::Ftp.begin(&mut scripted(REFUSES).await, "x").await.unwrap_err().to_string();
        assert_eq!(said, "it says `530 no`");
    }
}
