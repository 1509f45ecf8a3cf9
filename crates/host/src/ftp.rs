//! Machines over FTP (RFC 959), with TLS (RFC 4217) begun by a command or from the first byte. Data connections are passive.

use crate::error::{HostError, LARGEST, tame};
use crate::files::{Access, FileRead};
use eskort_core::inventory::{FtpHost, FtpTls};
use eskort_core::pki::Secret;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use suppaftp::tokio::{AsyncRustlsConnector, AsyncRustlsFtpStream};
use suppaftp::types::FileType;
use suppaftp::{FtpError, Mode, Status};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

pub(crate) struct FtpSession {
    host: String,
    stream: AsyncRustlsFtpStream,
    /// The folder that relative paths begin at.
    home: PathBuf,
}

impl FtpSession {
    pub(crate) async fn open(name: &str, host: &FtpHost, password: Option<&Secret<String>>) -> Result<Self, HostError> {
        let at = format!("{}:{}", host.address, host.port);
        let fail = |error: FtpError| why_not(name, host, &error);
        let mut stream = match host.tls {
            FtpTls::Implicit => {
                let connector = connector(name, host)?;
                AsyncRustlsFtpStream::connect_secure_implicit(at, connector, &host.address).await.map_err(fail)?
            }
            FtpTls::Explicit => {
                let plain = AsyncRustlsFtpStream::connect(at).await.map_err(fail)?;
                plain.into_secure(connector(name, host)?, &host.address).await.map_err(fail)?
            }
            FtpTls::None => AsyncRustlsFtpStream::connect(at).await.map_err(fail)?,
        };
        let password = password.map_or("", |secret| secret.reveal().as_str());
        // A line end would begin a command of its own (RFC 959 section 5.3).
        if [host.user.as_str(), password].iter().any(|text| text.contains(['\r', '\n', '\0'])) {
            let what = "a user name or password must not contain line breaks".to_owned();
            return Err(HostError::Login { host: name.to_owned(), address: host.address.clone(), what });
        }
        stream.login(host.user.as_str(), password).await.map_err(|error| HostError::Login {
            host: name.to_owned(),
            address: host.address.clone(),
            what: ftp_words(&error),
        })?;
        if host.tls == FtpTls::Implicit {
            for command in ["PBSZ 0", "PROT P"] {
                stream.custom_command(command, &[Status::CommandOk]).await.map_err(fail)?;
            }
        }
        // Behind address translation a server may name an address that nobody can reach; the one it answers at is right.
        stream.set_passive_nat_workaround(true);
        let remote = stream.get_ref().await.peer_addr().map_err(|e| fail(FtpError::ConnectionError(e)))?;
        stream.set_mode(if remote.is_ipv4() { Mode::Passive } else { Mode::ExtendedPassive });
        stream.transfer_type(FileType::Binary).await.map_err(fail)?;
        let home = stream.pwd().await.map_err(fail)?;
        Ok(FtpSession { host: name.to_owned(), stream, home: PathBuf::from(home) })
    }

    pub(crate) async fn close(mut self) {
        let _ = self.stream.quit().await;
    }

    /// Returns the path from the top, as FTP writes it.
    fn full(&self, path: &Path) -> String {
        self.home.join(path).to_string_lossy().into_owned()
    }

    fn file(&self, job: &'static str, path: &Path) -> impl Fn(FtpError) -> HostError + use<> {
        let (host, path) = (self.host.clone(), path.to_owned());
        move |error| HostError::File { host: host.clone(), job, path: path.clone(), what: ftp_words(&error) }
    }

    pub(crate) async fn is_folder(&mut self, path: &Path) -> Result<bool, HostError> {
        match self.stream.cwd(self.full(path)).await {
            Ok(()) => Ok(true),
            Err(error) if is_refusal(&error) => Ok(false),
            Err(error) => Err(self.file("look at", path)(error)),
        }
    }

    pub(crate) async fn make_folder(&mut self, path: &Path) -> Result<(), HostError> {
        let full = self.full(path);
        self.stream.mkdir(&full).await.map_err(self.file("make", path))?;
        self.set_mode("755", &full).await;
        Ok(())
    }

    /// Many servers have no `SITE CHMOD`, and most make what visitors can read.
    async fn set_mode(&mut self, mode: &str, path: &str) {
        let command = format!("SITE CHMOD {mode} {path}");
        let _ = self.stream.custom_command(command, &[Status::CommandOk, Status::RequestedFileActionOk]).await;
    }

    pub(crate) async fn is_link(&mut self, _path: &Path) -> Result<bool, HostError> {
        Ok(false)
    }

    pub(crate) async fn put(&mut self, path: &Path, part: &Path, bytes: &[u8]) -> Result<(), HostError> {
        let fail = self.file("write", path);
        let (full, part) = (self.full(path), self.full(part));
        let uploaded = self.upload(&part, bytes).await;
        if uploaded.is_ok() {
            self.set_mode("644", &part).await;
        }
        let renamed = match uploaded {
            Ok(()) => self.rename_over(&part, &full).await,
            Err(error) => {
                let _ = self.stream.rm(&part).await;
                Err(error)
            }
        };
        renamed.map_err(fail)
    }

    /// Renames a file to its place; where that fails, it is removed.
    async fn rename_over(&mut self, part: &str, full: &str) -> Result<(), FtpError> {
        let renamed = match self.stream.rename(part, full).await {
            // Some servers do not rename over a file that is there.
            Err(error) if is_refusal(&error) && self.stream.rm(full).await.is_ok() => {
                self.stream.rename(part, full).await
            }
            renamed => renamed,
        };
        if renamed.is_err() {
            let _ = self.stream.rm(part).await;
        }
        renamed
    }

    /// Writes a file under the name `part`, with the access that it is to have as far as the server gives it, and renames it. One that others
    /// may not read is closed before its first byte comes, or not written at all.
    pub(crate) async fn write_atomic(
        &mut self,
        path: &Path,
        part: &Path,
        bytes: &[u8],
        access: Access,
    ) -> Result<(), HostError> {
        let fail = self.file("write", path);
        let (host, full, part) = (self.host.clone(), self.full(path), self.full(part));
        let mode = format!("{:o}", access.mode & 0o777);
        let is_closed = access.mode & 0o007 == 0;
        let mut uploaded = self.upload(&part, if is_closed { b"" } else { bytes }).await;
        self.set_mode(&mode, &part).await;
        let mut open = is_closed && self.is_open(&part, access.mode).await;
        if is_closed && !open && uploaded.is_ok() {
            uploaded = self.upload(&part, bytes).await;
            // Where the server has made it anew.
            open = self.is_open(&part, access.mode).await;
        }
        if uploaded.is_err() || open {
            let _ = self.stream.rm(&part).await;
            uploaded.map_err(fail)?;
            let what = "the server lets others read it, or does not say who may".to_owned();
            return Err(HostError::File { host, job: "write", path: path.to_owned(), what });
        }
        self.rename_over(&part, &full).await.map_err(fail)
    }

    /// Whether a file is open to more than it should be, or nobody says to whom it is.
    async fn is_open(&mut self, path: &str, mode: u32) -> bool {
        self.mode_of(path).await.is_none_or(|is| is & !mode & 0o077 != 0)
    }

    /// Returns the permission bits of a file, as far as the server lists them.
    async fn mode_of(&mut self, path: &str) -> Option<u32> {
        let lines = self.stream.list(Some(path)).await.ok()?;
        let permissions = lines.first()?.split_whitespace().next()?.as_bytes();
        let letters = permissions.get(1..10).filter(|_| permissions[0] == b'-')?;
        Some(letters.iter().fold(0, |mode, letter| mode << 1 | u32::from(*letter != b'-')))
    }

    /// Reads a file of at most `most` bytes, with who may do what with it as far as the server lists that.
    pub(crate) async fn read_whole(&mut self, path: &Path, most: u64) -> Result<Option<FileRead>, HostError> {
        let Some(bytes) = self.read_at_most(path, most).await? else { return Ok(None) };
        if bytes.len() as u64 > most {
            let what = format!("it is larger than {most} bytes");
            return Err(HostError::File { host: self.host.clone(), job: "read", path: path.to_owned(), what });
        }
        let mode = self.mode_of(&self.full(path)).await.unwrap_or(0o600);
        Ok(Some(FileRead { bytes, access: Access::mode(mode) }))
    }

    async fn upload(&mut self, path: &str, bytes: &[u8]) -> Result<(), FtpError> {
        let mut data = self.stream.put_with_stream(path).await?;
        data.write_all(bytes).await.map_err(FtpError::ConnectionError)?;
        data.finish().await
    }

    pub(crate) async fn read(&mut self, path: &Path) -> Result<Option<Vec<u8>>, HostError> {
        self.read_at_most(path, LARGEST as u64).await
    }

    /// Reads at most one byte more.
    async fn read_at_most(&mut self, path: &Path, most: u64) -> Result<Option<Vec<u8>>, HostError> {
        let fail = self.file("read", path);
        let data = match self.stream.retr_as_stream(self.full(path)).await {
            Ok(data) => data,
            Err(error) if is_refusal(&error) => return Ok(None),
            Err(error) => return Err(fail(error)),
        };
        let mut bytes = Vec::new();
        let mut data = data.take(most + 1);
        data.read_to_end(&mut bytes).await.map_err(|e| fail(FtpError::ConnectionError(e)))?;
        data.into_inner().finish().await.map_err(fail)?;
        Ok(Some(bytes))
    }

    pub(crate) async fn remove(&mut self, path: &Path) -> Result<(), HostError> {
        let full = self.full(path);
        match self.stream.rm(&full).await {
            Err(error) if is_refusal(&error) && !self.exists(&full).await => Ok(()),
            removed => removed.map_err(self.file("remove", path)),
        }
    }

    /// Tells a file that is not there from one that may not be removed: both are answered with 550.
    async fn exists(&mut self, path: &str) -> bool {
        self.stream.size(path).await.is_ok()
    }

    pub(crate) async fn remove_folder(&mut self, path: &Path) -> Result<(), HostError> {
        let full = self.full(path);
        let _ = self.stream.cwd(self.home.to_string_lossy()).await;
        match self.stream.rmdir(&full).await {
            // Whatever the reason, a folder that is not there is gone.
            Err(error) if is_refusal(&error) && !self.is_folder(path).await? => Ok(()),
            removed => removed.map_err(self.file("remove", path)),
        }
    }
}

fn connector(name: &str, host: &FtpHost) -> Result<AsyncRustlsConnector, HostError> {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    if let Some(path) = &host.roots {
        let fail = |what: String| HostError::File {
            host: name.to_owned(),
            job: "read the roots in",
            path: path.clone(),
            what,
        };
        let read = CertificateDer::pem_file_iter(path).map_err(|e| fail(e.to_string()))?;
        for certificate in read {
            let certificate = certificate.map_err(|e| fail(e.to_string()))?;
            roots.add(certificate).map_err(|e| fail(e.to_string()))?;
        }
    }
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .expect("the provider speaks TLS 1.2 and 1.3")
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(tokio_rustls::TlsConnector::from(Arc::new(config)).into())
}

/// Whether the server said no to just this, with the connection as it was.
fn is_refusal(error: &FtpError) -> bool {
    matches!(error, FtpError::UnexpectedResponse(answer) if answer.status != Status::NotAvailable)
}

fn ftp_words(error: &FtpError) -> String {
    match error {
        FtpError::UnexpectedResponse(answer) => tame(&String::from_utf8_lossy(&answer.body)),
        FtpError::ConnectionError(error) => tame(&error.to_string()),
        FtpError::SecureError(what) => tame(what),
        other => tame(&other.to_string()),
    }
}

fn why_not(name: &str, host: &FtpHost, error: &FtpError) -> HostError {
    let (host, address, what) = (name.to_owned(), host.address.clone(), ftp_words(error));
    match error {
        FtpError::SecureError(_) => HostError::Untrusted { host, address, what },
        _ => HostError::Unreachable { host, address, what },
    }
}
