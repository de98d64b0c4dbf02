//! A connection to a server: over the network or a Unix socket, plain or encrypted, with one end in time for
//! all that is said on it and a bound on what is taken from it.
use jolly_core::bounds::ANSWER;
use rustls::{ClientConnection, StreamOwned};
use std::io::{Error, ErrorKind, Read, Result, Write};
use std::net::{IpAddr, SocketAddr, TcpStream};
use std::os::unix::net::UnixStream;
use std::time::{Duration, Instant};

/// Where to connect to.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Target<'a> {
    pub(crate) address: IpAddr,
    pub(crate) port: u16,
    /// A Unix socket in place of both.
    pub(crate) socket: Option<&'a str>,
}

/// The socket below, of either sort.
pub(crate) enum Raw {
    Tcp(TcpStream),
    Unix(UnixStream),
}

impl Raw {
    fn patience(&self, limit: Duration) -> Result<()> {
        // Zero would mean without end.
        let limit = Some(limit.max(Duration::from_millis(1)));
        match self {
            Self::Tcp(s) => s.set_read_timeout(limit).and_then(|()| s.set_write_timeout(limit)),
            Self::Unix(s) => s.set_read_timeout(limit).and_then(|()| s.set_write_timeout(limit)),
        }
    }
}

impl Read for Raw {
    fn read(&mut self, room: &mut [u8]) -> Result<usize> {
        match self {
            Self::Tcp(s) => s.read(room),
            Self::Unix(s) => s.read(room),
        }
    }
}

impl Write for Raw {
    fn write(&mut self, bytes: &[u8]) -> Result<usize> {
        match self {
            Self::Tcp(s) => s.write(bytes),
            Self::Unix(s) => s.write(bytes),
        }
    }
    fn flush(&mut self) -> Result<()> {
        match self {
            Self::Tcp(s) => s.flush(),
            Self::Unix(s) => s.flush(),
        }
    }
}

enum Stream {
    Plain(Raw),
    Encrypted(Box<StreamOwned<ClientConnection, Raw>>),
    /// Between the two.
    None,
}

/// A connection with its end in time.
pub(crate) struct Connection {
    stream: Stream,
    until: Instant,
    taken: usize,
    /// Whether it stays on this host.
    pub(crate) local: bool,
}

/// What stands for the end of the time.
pub(crate) fn late() -> Error {
    Error::new(ErrorKind::TimedOut, "no answer in time")
}

fn broken(why: &'static str) -> Error {
    Error::new(ErrorKind::InvalidData, why)
}

impl Connection {
    /// Connects.
    ///
    /// # Errors
    /// Nobody takes the connection, or not before the time is over.
    pub(crate) fn open(target: Target, patience: Duration) -> Result<Self> {
        let until = Instant::now() + patience;
        let raw = match target.socket {
            Some(path) => Raw::Unix(unix(path, patience)?),
            None => {
                let address = SocketAddr::new(target.address, target.port);
                Raw::Tcp(TcpStream::connect_timeout(&address, patience)?)
            }
        };
        Ok(Self { stream: Stream::Plain(raw), until, taken: 0, local: target.socket.is_some() })
    }

    fn raw(&self) -> Option<&Raw> {
        match &self.stream {
            Stream::Plain(raw) => Some(raw),
            Stream::Encrypted(stream) => Some(&stream.sock),
            Stream::None => None,
        }
    }

    fn wait(&self) -> Result<()> {
        let left = self.until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return Err(late());
        }
        self.raw().ok_or_else(|| broken("the connection is closed"))?.patience(left)
    }

    /// Whether nobody on the way can read along.
    pub(crate) fn is_private(&self) -> bool {
        self.local || matches!(self.stream, Stream::Encrypted(_))
    }

    /// Sends all of it.
    ///
    /// # Errors
    /// The other side closed, or takes nothing before the time is over.
    pub(crate) fn send(&mut self, bytes: &[u8]) -> Result<()> {
        self.wait()?;
        let sent = match &mut self.stream {
            Stream::Plain(raw) => raw.write_all(bytes).and_then(|()| raw.flush()),
            Stream::Encrypted(stream) => stream.write_all(bytes).and_then(|()| stream.flush()),
            Stream::None => Err(broken("the connection is closed")),
        };
        sent.map_err(timed)
    }

    /// Takes what there is, at most as much as the room holds; 0 where the other side closed.
    ///
    /// # Errors
    /// Nothing came before the time was over, or more than is taken of one server.
    pub(crate) fn take(&mut self, room: &mut [u8]) -> Result<usize> {
        self.wait()?;
        let got = match &mut self.stream {
            Stream::Plain(raw) => raw.read(room),
            Stream::Encrypted(stream) => stream.read(room),
            Stream::None => Err(broken("the connection is closed")),
        };
        let got = match got {
            // Encrypted servers often close without saying so.
            Err(error) if error.kind() == ErrorKind::UnexpectedEof => 0,
            Err(error) if error.kind() == ErrorKind::ConnectionReset && self.taken > 0 => 0,
            other => other.map_err(timed)?,
        };
        self.taken += got;
        if self.taken > ANSWER {
            return Err(broken("it says more than is taken of one server"));
        }
        Ok(got)
    }

    /// What it means that the other side closed: it has nothing to say, or broke off.
    pub(crate) fn ended(&self) -> Error {
        match self.taken {
            0 => Error::new(ErrorKind::UnexpectedEof, "it hung up without a word"),
            _ => broken("it broke off in the middle of its answer"),
        }
    }

    /// Takes exactly so many bytes.
    ///
    /// # Errors
    /// As [`Connection::take`], and where the other side closes before.
    pub(crate) fn exactly(&mut self, count: usize) -> Result<Vec<u8>> {
        if count > ANSWER {
            return Err(broken("it says more than is taken of one server"));
        }
        let mut bytes = vec![0; count];
        let mut at = 0;
        while at < count {
            match self.take(&mut bytes[at..])? {
                0 => return Err(self.ended()),
                got => at += got,
            }
        }
        Ok(bytes)
    }

    /// From here on encrypted. Who the server is, is not judged.
    ///
    /// # Errors
    /// The handshake fails.
    pub(crate) fn encrypt(&mut self, host: &str) -> Result<()> {
        self.wait()?;
        let Stream::Plain(raw) = std::mem::replace(&mut self.stream, Stream::None) else {
            return Err(broken("the connection is encrypted already"));
        };
        let name = rustls::pki_types::ServerName::try_from(host.to_owned())
            .or_else(|_| rustls::pki_types::ServerName::try_from("localhost"))
            .map_err(|_| broken("its name cannot stand in a certificate"))?;
        let client =
            ClientConnection::new(crate::tls::config(), name).map_err(|e| Error::other(e.to_string()))?;
        let mut stream = StreamOwned::new(client, raw);
        while stream.conn.is_handshaking() {
            let left = self.until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Err(late());
            }
            stream.sock.patience(left)?;
            stream.conn.complete_io(&mut stream.sock).map_err(timed)?;
        }
        self.stream = Stream::Encrypted(Box::new(stream));
        Ok(())
    }
}

/// What the system calls "would block" is the end of the time here.
fn timed(error: Error) -> Error {
    if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) { late() } else { error }
}

/// Connects to a Unix socket. Where nobody takes connections any more and the queue is full, the system would
/// wait without end (unix(7)): it is asked again until the time is over.
fn unix(path: &str, patience: Duration) -> Result<UnixStream> {
    use rustix::net::{AddressFamily, SocketAddrUnix, SocketFlags, SocketType};
    let address = SocketAddrUnix::new(path)?;
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let socket = rustix::net::socket_with(AddressFamily::UNIX, SocketType::STREAM, flags, None)?;
    let began = Instant::now();
    loop {
        match rustix::net::connect(&socket, &address) {
            Ok(()) => break,
            Err(rustix::io::Errno::AGAIN | rustix::io::Errno::INTR) if began.elapsed() < patience => {
                std::thread::sleep(Duration::from_millis(20))
            }
            Err(rustix::io::Errno::AGAIN) => {
                return Err(Error::other("nobody takes its connections: the queue is full"));
            }
            Err(errno) => return Err(errno.into()),
        }
    }
    let stream = UnixStream::from(socket);
    stream.set_nonblocking(false)?;
    Ok(stream)
}

/// Does something as another account of the host, as far as a server sees it that asks who its peer is. Only
/// the effective user of one thread changes: the real and the saved one stay, so that this account may
/// neither signal nor trace the program (kill(2), ptrace(2)), and the thread ends with what it did.
///
/// # Errors
/// The account cannot be taken on: only root may.
pub(crate) fn as_peer<T: Send>(uid: u32, work: impl FnOnce() -> T + Send) -> Result<T> {
    std::thread::scope(|scope| {
        let worker = scope.spawn(|| {
            let account = rustix::process::Uid::from_raw(uid);
            rustix::thread::set_thread_res_uid(None, account, None).map_err(Error::from)?;
            Ok(work())
        });
        worker.join().unwrap_or_else(|_| Err(broken("it broke off")))
    })
}

/// Says a few words and takes an answer of a known length, which `answers` knows for one of its protocol.
///
/// # Errors
/// It does not answer, or in another protocol, which `wrong` says.
pub(crate) fn exchange(
    target: Target,
    patience: Duration,
    words: &[u8],
    length: usize,
    answers: impl FnOnce(&[u8]) -> bool,
    wrong: &'static str,
) -> Result<()> {
    let mut connection = Connection::open(target, patience)?;
    connection.send(words)?;
    if answers(&connection.exactly(length)?) { Ok(()) } else { Err(broken(wrong)) }
}
