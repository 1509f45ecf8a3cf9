//! A hosting account's FTP server (RFC 959) with explicit TLS (RFC 4217): one user, one folder, passive data connections.

use crate::http::tls_config;
use crate::issuer::ApiCertificate;
use async_recursion::async_recursion as boxed;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::os::unix::fs::PermissionsExt;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use tokio::io::{AsyncBufReadExt, AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

/// The user that it lets in.
pub const FTP_USER: &str = "lampholm";
const LARGEST: u64 = 1 << 20;

/// A running FTP server. It stops when dropped.
pub struct FtpServer {
    address: SocketAddr,
    root: String,
    core: Arc<Core>,
    task: JoinHandle<()>,
}

struct Core {
    folder: PathBuf,
    password: String,
    acceptor: TlsAcceptor,
}

/// Either kind of connection.
trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

impl FtpServer {
    /// Starts a server for a folder.
    ///
    /// # Errors
    /// When no port is to be had.
    ///
    /// # Panics
    /// When the crypto library fails.
    #[boxed]
    pub async fn start(folder: &Path) -> io::Result<Self> {
        let api = ApiCertificate::new();
        let config = tls_config(&api.chain, api.key.reveal()).expect("our own certificate fits its key");
        let acceptor = TlsAcceptor::from(Arc::new(config));
        let core = Arc::new(Core { folder: folder.to_owned(), password: crate::ca::random_text(), acceptor });
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        let shared = Arc::clone(&core);
        let task = tokio::spawn(async move {
            let mut open = tokio::task::JoinSet::new();
            while let Ok((stream, _)) = listener.accept().await {
                open.spawn(converse(stream, Arc::clone(&shared)));
                while open.try_join_next().is_some() {}
            }
        });
        Ok(FtpServer { address, root: api.root, core, task })
    }

    /// Returns where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Returns the password of [`FTP_USER`].
    pub fn password(&self) -> &str {
        &self.core.password
    }

    /// Returns the root that its certificate leads to, as PEM.
    pub fn root_pem(&self) -> &str {
        &self.root
    }
}

impl Drop for FtpServer {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn converse(stream: TcpStream, core: Arc<Core>) -> io::Result<()> {
    let mut plain = BufReader::new(stream);
    plain.write_all(b"220 The hosting account of the Lampholm Lighthouse Trust\r\n").await?;
    let mut line = String::new();
    plain.read_line(&mut line).await?;
    // Passwords do not travel in clear here.
    if !line.trim_end().eq_ignore_ascii_case("AUTH TLS") {
        return plain.write_all(b"530 Begin with AUTH TLS\r\n").await;
    }
    plain.write_all(b"234 Go on with TLS\r\n").await?;
    let stream: Box<dyn Stream> = Box::new(core.acceptor.accept(plain.into_inner()).await?);
    Session {
        core,
        control: BufReader::new(stream),
        user: None,
        in_: false,
        at: PathBuf::from("/"),
        data: None,
        from: None,
    }
    .serve()
    .await
}

struct Session {
    core: Arc<Core>,
    control: BufReader<Box<dyn Stream>>,
    user: Option<String>,
    /// Whether the user is let in.
    in_: bool,
    /// The working folder, as the client sees it.
    at: PathBuf,
    data: Option<TcpListener>,
    /// What `RNFR` named.
    from: Option<PathBuf>,
}

impl Session {
    async fn serve(mut self) -> io::Result<()> {
        loop {
            let mut line = String::new();
            if (&mut self.control).take(4096).read_line(&mut line).await? == 0 {
                return Ok(());
            }
            let line = line.trim_end_matches(['\r', '\n']);
            let (verb, argument) = line.split_once(' ').unwrap_or((line, ""));
            let verb = verb.to_ascii_uppercase();
            let answer = if self.in_ || matches!(verb.as_str(), "USER" | "PASS" | "PBSZ" | "PROT" | "QUIT") {
                self.act(&verb, argument).await?
            } else {
                "530 Please log in".to_owned()
            };
            self.control.write_all(format!("{answer}\r\n").as_bytes()).await?;
            self.control.flush().await?;
            if verb == "QUIT" {
                return Ok(());
            }
        }
    }

    async fn act(&mut self, verb: &str, argument: &str) -> io::Result<String> {
        let done = |result: io::Result<()>, good: &str| match result {
            Ok(()) => good.to_owned(),
            Err(error) => format!("550 {error}"),
        };
        let path = self.path(argument);
        let real = self.real(&path);
        Ok(match verb {
            "USER" => {
                self.user = Some(argument.to_owned());
                "331 And the password?".into()
            }
            "PASS" => {
                self.in_ = self.user.as_deref() == Some(FTP_USER) && argument == self.core.password;
                if self.in_ { "230 Welcome".into() } else { "530 Wrong user or password".into() }
            }
            "PBSZ" | "PROT" | "TYPE" | "NOOP" => "200 So be it".into(),
            "QUIT" => "221 Goodbye".into(),
            "PWD" => format!("257 \"{}\"", self.at.display()),
            "CWD" if real.is_dir() => {
                self.at = path;
                "250 There".into()
            }
            "CWD" => "550 No such folder".into(),
            "MKD" => done(std::fs::create_dir(&real), &format!("257 \"{}\" made", path.display())),
            "RMD" => done(std::fs::remove_dir(&real), "250 Gone"),
            "DELE" => done(std::fs::remove_file(&real), "250 Gone"),
            "SIZE" => match std::fs::metadata(&real) {
                Ok(meta) if meta.is_file() => format!("213 {}", meta.len()),
                _ => "550 No such file".into(),
            },
            "RNFR" => {
                self.from = Some(real);
                "350 And the new name?".into()
            }
            "RNTO" => match self.from.take() {
                Some(from) => done(std::fs::rename(from, &real), "250 Renamed"),
                None => "503 RNFR comes first".into(),
            },
            "SITE" => match argument.split(' ').collect::<Vec<_>>()[..] {
                ["CHMOD", mode, target] => {
                    let target = self.real(&self.path(target));
                    let mode = u32::from_str_radix(mode, 8).unwrap_or(0o644);
                    done(std::fs::set_permissions(target, std::fs::Permissions::from_mode(mode)), "200 So be it")
                }
                _ => "500 Not known here".into(),
            },
            "PASV" => {
                let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
                let port = listener.local_addr()?.port();
                self.data = Some(listener);
                format!("227 Passive (127,0,0,1,{},{})", port >> 8, port & 255)
            }
            "STOR" | "RETR" => self.transfer(verb, &real).await?,
            _ => "500 Not known here".into(),
        })
    }

    async fn transfer(&mut self, verb: &str, file: &Path) -> io::Result<String> {
        let Some(listener) = self.data.take() else { return Ok("425 PASV comes first".into()) };
        let bytes = if verb == "RETR" { std::fs::read(file).ok() } else { Some(Vec::new()) };
        let Some(bytes) = bytes else { return Ok("550 No such file".into()) };
        self.control.write_all(b"150 Come to the data connection\r\n").await?;
        self.control.flush().await?;
        let (stream, _) = listener.accept().await?;
        let mut stream = self.core.acceptor.accept(stream).await?;
        if verb == "RETR" {
            stream.write_all(&bytes).await?;
        } else {
            let mut stored = Vec::new();
            (&mut stream).take(LARGEST).read_to_end(&mut stored).await?;
            if let Err(error) = std::fs::write(file, stored) {
                return Ok(format!("553 {error}"));
            }
        }
        let _ = stream.shutdown().await;
        Ok("226 All of it".into())
    }

    /// Returns a path as the client sees it: nothing leads above the top.
    fn path(&self, argument: &str) -> PathBuf {
        let mut path = PathBuf::from("/");
        for part in self.at.join(argument).components() {
            match part {
                Component::ParentDir => drop(path.pop()),
                Component::Normal(part) => path.push(part),
                Component::RootDir | Component::CurDir | Component::Prefix(_) => {}
            }
        }
        path
    }

    fn real(&self, path: &Path) -> PathBuf {
        self.core.folder.join(path.strip_prefix("/").unwrap_or(path))
    }
}
