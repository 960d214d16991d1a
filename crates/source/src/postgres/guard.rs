//! Stands between the driver and a watched server, which may be another than it should be.
//!
//! The driver believes the length that a message declares, keeps answers of any size, and gives its password to
//! whoever asks. So it speaks to a relay within this process, over a socket that nobody else can reach, and the
//! relay to the server: it looks at the head of every message that the server sends, and ends the connection with
//! an error of its own where one may not pass. Encryption is the relay's, too, since it must see the messages.

use std::io;
use std::time::Duration;

use hurnix_core::access::tls_mode::TlsMode;
use sqlx::Error;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpStream, UnixListener, UnixStream};
use tokio_rustls::TlsConnector;

use super::tls::{server_name, tls_config};
use super::{Address, PROGRAM};

/// Longest message of a server. The longest that Hurnix asks for are lists of statements with their texts.
const MOST_MESSAGE_BYTES: usize = 32 << 20;
/// All that a server may send until it is asked for something else.
const MOST_ANSWER_BYTES: usize = 128 << 20;
/// All that a server may send before it is ready to be asked anything.
const MOST_START_BYTES: usize = 1 << 20;
/// The driver connects to the relay within this time.
const DRIVER_TIME: Duration = Duration::from_secs(5);

/// SQLSTATE of a connection that the relay ended: the password would go to whoever listens.
pub(super) const PASSWORD_IN_CLEAR: &str = "HX001";
/// Likewise: the server sent too much.
pub(super) const OVERSIZED: &str = "HX002";
/// Likewise: it is no PostgreSQL server.
pub(super) const NO_SERVER: &str = "HX003";

/// Port that the socket's name tells; no port is listened on.
pub(super) const RELAY_PORT: u16 = 1;

/// How a client asks whether a server would encrypt: a length and a number that stands for the question.
/// Servers that speak PostgreSQL's protocol answer with one letter, and nobody is signed in.
pub(super) const ENCRYPTION_ASKED: [u8; 8] = [0, 0, 0, 8, 0x04, 0xd2, 0x16, 0x2f];

trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<S: AsyncRead + AsyncWrite + Unpin + Send> Stream for S {}

/// Connects to a server and stands guard. The driver finds the relay in the folder that is answered, which must
/// be kept until it has connected.
pub(super) async fn open(address: &Address) -> Result<tempfile::TempDir, Error> {
    let (server, is_verified) = reach(address).await?;
    // Nobody else may enter the folder.
    let folder = tempfile::Builder::new().prefix(PROGRAM).tempdir().map_err(Error::Io)?;
    let listener = UnixListener::bind(folder.path().join(format!(".s.PGSQL.{RELAY_PORT}"))).map_err(Error::Io)?;
    let watch = Watch::new(is_verified || address.allows_plain_password);
    tokio::spawn(async move {
        if let Ok(Ok((driver, _))) = tokio::time::timeout(DRIVER_TIME, listener.accept()).await {
            relay(driver, server, watch).await;
        }
    });
    Ok(folder)
}

/// A stream to the server, encrypted as the address says, and whether the server has proved who it is.
async fn reach(address: &Address) -> Result<(Box<dyn Stream>, bool), Error> {
    let Address { host, port, tls, .. } = address;
    if host.starts_with('/') {
        let stream = UnixStream::connect(format!("{host}/.s.PGSQL.{port}")).await.map_err(Error::Io)?;
        return Ok((Box::new(stream), true));
    }
    let mut stream = TcpStream::connect((host.as_str(), *port)).await.map_err(Error::Io)?;
    stream.set_nodelay(true).map_err(Error::Io)?;
    if *tls == TlsMode::Off {
        return Ok((Box::new(stream), false));
    }
    stream.write_all(&ENCRYPTION_ASKED).await.map_err(Error::Io)?;
    match stream.read_u8().await.map_err(Error::Io)? {
        b'S' => {
            let connector = TlsConnector::from(tls_config(*tls, address.tls_ca.as_deref())?);
            let stream = connector.connect(server_name(host)?, stream).await.map_err(tls_error)?;
            Ok((Box::new(stream), *tls == TlsMode::Verify))
        }
        b'N' if *tls == TlsMode::Prefer => Ok((Box::new(stream), false)),
        b'N' => Err(Error::Tls("server does not support TLS".into())),
        letter => Err(Error::Protocol(format!("it answers {:?} when asked for encryption", char::from(letter)))),
    }
}

/// What is wrong with the encryption, or with the way to the server.
fn tls_error(error: io::Error) -> Error {
    match error.get_ref().is_some_and(|inner| inner.is::<rustls::Error>()) {
        true => Error::Tls(error.into()),
        false => Error::Io(error),
    }
}

/// Passes on what both sides send, until one goes away or the server sends what may not pass.
async fn relay(driver: UnixStream, server: Box<dyn Stream>, mut watch: Watch) {
    let (mut from_driver, mut to_driver) = driver.into_split();
    let (mut from_server, mut to_server) = tokio::io::split(server);
    let (mut asked, mut answer) = (vec![0; 16 << 10], vec![0; 64 << 10]);
    loop {
        tokio::select! {
            read = from_driver.read(&mut asked) => {
                let Ok(read @ 1..) = read else { break };
                watch.asked();
                if to_server.write_all(&asked[..read]).await.is_err() || to_server.flush().await.is_err() {
                    break;
                }
            }
            read = from_server.read(&mut answer) => {
                let Ok(read @ 1..) = read else { break };
                let (passes, refusal) = watch.passes(&answer[..read]);
                if to_driver.write_all(&answer[..passes]).await.is_err() {
                    break;
                }
                if let Some(refusal) = refusal {
                    // A driver that has gone away need not be told.
                    let _ = to_driver.write_all(&refusal.message()).await;
                    break;
                }
            }
        }
    }
}

/// Why a message may not pass.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Refusal {
    code: &'static str,
    text: String,
}

impl Refusal {
    /// As a server would tell it (`ErrorResponse`).
    fn message(&self) -> Vec<u8> {
        let fields = format!("SFATAL\0VFATAL\0C{}\0M{}\0\0", self.code, self.text);
        let length = (fields.len() + 4) as u32;
        [&b"E"[..], &length.to_be_bytes(), fields.as_bytes()].concat()
    }
}

/// Follows the messages of a server, from head to head.
#[derive(Debug)]
struct Watch {
    /// Whether it may ask for the password in clear text or as MD5.
    gives_password: bool,
    /// Whether it was ready to be asked something yet.
    is_ready: bool,
    /// What was seen of a head that came in parts: a letter, the length, and of `Authentication` the kind.
    head: Vec<u8>,
    /// Bytes left of the message whose head has passed.
    left: usize,
    /// Bytes that it has sent since it was last asked.
    since_asked: usize,
}

/// Letter and length; with the kind of `Authentication`.
const HEAD_BYTES: usize = 5;
const AUTHENTICATION_BYTES: usize = 9;
/// Kinds of `Authentication` that ask for a password in clear text, or as MD5.
const IN_CLEAR: [u32; 2] = [3, 5];

impl Watch {
    fn new(gives_password: bool) -> Watch {
        Watch { gives_password, is_ready: false, head: Vec::new(), left: 0, since_asked: 0 }
    }

    /// The driver has asked something.
    fn asked(&mut self) {
        self.since_asked = 0;
    }

    /// How much of these bytes passes, and why no more, if not all of them. A head passes with the rest of what
    /// came of it, so that what is refused is refused in whole.
    fn passes(&mut self, bytes: &[u8]) -> (usize, Option<Refusal>) {
        let mut at = 0;
        // Where the head that is read just now begins in these bytes.
        let mut head_from = 0;
        while at < bytes.len() {
            if self.left > 0 {
                let step = self.left.min(bytes.len() - at);
                (self.left, at) = (self.left - step, at + step);
                head_from = at;
                continue;
            }
            self.head.push(bytes[at]);
            at += 1;
            let needed = if self.head[0] == b'R' { AUTHENTICATION_BYTES } else { HEAD_BYTES };
            if self.head.len() < needed {
                continue;
            }
            if let Some(refusal) = self.refused() {
                return (head_from, Some(refusal));
            }
            let length = self.length();
            self.left = (length + 1).saturating_sub(self.head.len());
            self.is_ready |= self.head[0] == b'Z';
            self.head.clear();
            head_from = at;
        }
        self.since_asked += bytes.len();
        (bytes.len(), None)
    }

    fn number(&self, at: usize) -> usize {
        self.head[at..at + 4].iter().fold(0, |number, byte| number << 8 | usize::from(*byte))
    }

    /// Length of the message, without its letter.
    fn length(&self) -> usize {
        self.number(1)
    }

    /// Why the message whose head was read may not pass.
    fn refused(&self) -> Option<Refusal> {
        let refused = |code, text: String| Some(Refusal { code, text });
        let (letter, length) = (self.head[0], self.length());
        let shortest = if letter == b'R' { AUTHENTICATION_BYTES - 1 } else { HEAD_BYTES - 1 };
        if length < shortest || !self.is_ready && (!b"RESKZNv".contains(&letter) || length > MOST_START_BYTES) {
            return refused(NO_SERVER, "it answers otherwise".into());
        }
        if letter == b'R' && !self.gives_password && IN_CLEAR.contains(&(self.number(5) as u32)) {
            let how = if self.number(5) == 3 { "in clear text" } else { "as MD5" };
            return refused(PASSWORD_IN_CLEAR, how.into());
        }
        let most = if self.is_ready { MOST_ANSWER_BYTES } else { MOST_START_BYTES };
        if length > MOST_MESSAGE_BYTES {
            return refused(OVERSIZED, format!("it sent a message of {length} bytes"));
        }
        if self.since_asked + length > most {
            return refused(OVERSIZED, format!("it sent more than {most} bytes at once"));
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn message(letter: u8, body: &[u8]) -> Vec<u8> {
        [&[letter][..], &(body.len() as u32 + 4).to_be_bytes(), body].concat()
    }

    /// What a server sends that lets somebody in.
    fn start() -> Vec<u8> {
        [message(b'R', &0_u32.to_be_bytes()), message(b'S', b"a\0b\0"), message(b'Z', b"I")].concat()
    }

    #[test]
    fn a_password_is_given_in_clear_only_where_that_is_allowed() {
        for (kind, code) in [(0_u32, None), (3, Some(PASSWORD_IN_CLEAR)), (5, Some(PASSWORD_IN_CLEAR)), (10, None)] {
            let asks = message(b'R', &[&kind.to_be_bytes()[..], b"salt"].concat());
            let (passes, refusal) = Watch::new(false).passes(&asks);
            assert_eq!(refusal.map(|refusal| refusal.code), code, "{kind}");
            assert_eq!(passes, if code.is_some() { 0 } else { asks.len() });
            assert_eq!(Watch::new(true).passes(&asks), (asks.len(), None));
        }
    }

    #[test]
    fn what_is_too_large_is_refused_before_any_of_it_passes() {
        let mut watch = Watch::new(false);
        assert_eq!(watch.passes(&start()), (start().len(), None));
        let giant = [&message(b'C', b"done")[..], b"D", &1_600_000_000_u32.to_be_bytes(), b"x"].concat();
        let (passes, refusal) = watch.passes(&giant);
        assert_eq!((passes, refusal.unwrap().code), (message(b'C', b"done").len(), OVERSIZED));
    }

    #[test]
    fn an_answer_without_end_is_refused_and_asking_anew_begins_anew() {
        let mut watch = Watch::new(false);
        watch.passes(&start());
        let row = message(b'D', &vec![0; 1 << 20]);
        let send = |watch: &mut Watch, times: usize| (0..times).find_map(|_| watch.passes(&row).1);
        for _ in 0..3 {
            assert_eq!(send(&mut watch, 120), None);
            watch.asked();
        }
        assert_eq!(send(&mut watch, 130).unwrap().code, OVERSIZED);
    }

    #[test]
    fn another_program_is_no_server() {
        let (passes, refusal) = Watch::new(false).passes(b"HTTP/1.1 400 Bad Request\r\n");
        assert_eq!((passes, refusal.unwrap().code), (0, NO_SERVER));
        let (_, refusal) = Watch::new(false).passes(b"R\0\0\0\0\0\0\0\0");
        assert_eq!(refusal.unwrap().code, NO_SERVER, "a length that is none");
    }

    proptest! {
        /// However the bytes are cut, and whatever they are, the watch follows and never panics.
        #[test]
        fn parts_pass_as_the_whole_does(
            messages in proptest::collection::vec((any::<u8>(), proptest::collection::vec(any::<u8>(), 4..60)), 0..12),
            cut in 1usize..17,
        ) {
            let mut bytes = start();
            messages.iter().for_each(|(letter, body)| bytes.extend(message(*letter, body)));
            let whole = Watch::new(false).passes(&bytes);
            let mut watch = Watch::new(false);
            let mut passed = 0;
            let mut refusal = None;
            for part in bytes.chunks(cut) {
                let (passes, refused) = watch.passes(part);
                passed += passes;
                refusal = refused;
                if refusal.is_some() {
                    break;
                }
            }
            prop_assert_eq!(&refusal, &whole.1);
            // Of a head that came in parts the first ones have passed already.
            prop_assert!(passed >= whole.0 && passed < whole.0 + AUTHENTICATION_BYTES);
        }

        #[test]
        fn no_bytes_are_too_odd(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let (passes, refusal) = Watch::new(false).passes(&bytes);
            prop_assert!(passes == bytes.len() || refusal.is_some());
        }
    }
}
