//! Conversations over Unix sockets.

use nix::unistd::geteuid;
use std::io;
use std::path::Path;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixStream;

/// No answer is read further.
const MOST_ANSWERED: u64 = 8 << 20;

/// Sends a message to a socket of this machine, where root or the caller has to listen, and returns what is answered.
pub(crate) async fn ask(at: &Path, message: &[u8]) -> io::Result<Vec<u8>> {
    let stream = UnixStream::connect(at).await?;
    let listener = stream.peer_cred()?.uid();
    if listener != 0 && listener != geteuid().as_raw() {
        let what = format!("the user number {listener} listens there");
        return Err(io::Error::new(io::ErrorKind::PermissionDenied, what));
    }
    converse(stream, message).await
}

/// Sends a message, and reads what is answered until the other side ends the conversation.
pub(crate) async fn converse(mut stream: UnixStream, message: &[u8]) -> io::Result<Vec<u8>> {
    stream.write_all(message).await?;
    let mut answer = Vec::new();
    stream.take(MOST_ANSWERED).read_to_end(&mut answer).await?;
    Ok(answer)
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::net::UnixListener;

    #[tokio::test]
    async fn who_listens_is_asked_and_nobody_else() {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path().join("socket");
        let listener = UnixListener::bind(&at).unwrap();
        let answered = tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            let mut message = [0; 5];
            stream.read_exact(&mut message).await.unwrap();
            stream.write_all(&[b"to ", &message[..]].concat()).await.unwrap();
        });
        assert_eq!(ask(&at, b"hello").await.unwrap(), b"to hello");
        answered.await.unwrap();
        assert_eq!(ask(&at, b"hello").await.unwrap_err().kind(), io::ErrorKind::ConnectionRefused);
        assert_eq!(ask(&folder.path().join("none"), b"x").await.unwrap_err().kind(), io::ErrorKind::NotFound);
    }
}
