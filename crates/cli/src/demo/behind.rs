//! Stand-ins for what answers behind a page: a front that passes requests on to a pool of scripts, the pool,
//! an application that uses a database, and that database. Each speaks its protocol as far as the demo needs.
use super::host::{BOARDING, BOOKINGS, EDGE};
use super::stand_in::{append, detach, leash, ready, stop, zone};
use jiff::Timestamp;
use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::Path;
use std::time::Duration;

/// Runs one of them; `None` for other names.
pub(super) fn run(name: &str, words: &[&str]) -> Option<Result<(), String>> {
    Some(match (name, words) {
        ("quay-edge", ["-c", config]) => detach(&["-c", config, "-g", "daemon off;"]),
        ("quay-edge", ["-c", config, "-g", _]) => edge(Path::new(config)),
        ("quay-edge", ["-c", config, "-s", "stop"]) => stop(&beside(config, "edge.pid")).map(drop),
        ("quay-edge", ["-c", _, "-s", _]) => Ok(()),
        ("quay-pool", [socket, "run"]) => pool(Path::new(socket)),
        ("quay-boarding", [config, "start"]) => detach(&[config, "run"]),
        ("quay-boarding", [config, "run"]) => boarding(Path::new(config)),
        ("quay-boarding", [config, "stop"]) => stop(&beside(config, "boarding.pid")).map(drop),
        ("quay-bookings", [roles, "run"]) => bookings(Path::new(roles)),
        _ => return None,
    })
}

fn beside(config: &str, name: &str) -> std::path::PathBuf {
    Path::new(config).with_file_name(name)
}

fn listen(port: u16) -> Result<TcpListener, String> {
    TcpListener::bind(("127.0.0.1", port)).map_err(|e| format!("cannot listen on 127.0.0.1:{port}: {e}"))
}

/// The first line of a request.
pub(super) fn request(stream: &mut TcpStream) -> String {
    let mut room = [0; 2048];
    let _ = stream.set_read_timeout(Some(Duration::from_secs(2)));
    let got = stream.read(&mut room).unwrap_or(0);
    String::from_utf8_lossy(&room[..got]).lines().next().unwrap_or_default().to_owned()
}

pub(super) fn answer(stream: &mut TcpStream, server: &str, status: &str, page: &str) {
    let head = format!("HTTP/1.1 {status}\r\nServer: {server}\r\nContent-Type: text/html; charset=utf-8\r\n");
    let text = format!("{head}Content-Length: {}\r\nConnection: close\r\n\r\n{page}", page.len());
    let _ = stream.write_all(text.as_bytes());
}

/// The front: it looks for the socket of the pool anew with each request, as its configuration says by then.
fn edge(config: &Path) -> Result<(), String> {
    let listener = listen(EDGE)?;
    let pid = config.with_file_name("edge.pid");
    fs::write(&pid, format!("{}\n", std::process::id())).map_err(|e| e.to_string())?;
    leash();
    ready();
    for mut stream in listener.incoming().flatten() {
        let line = request(&mut stream);
        let text = fs::read_to_string(config).unwrap_or_default();
        let value = |name: &str| {
            let line = text.lines().map(str::trim).find(|l| l.starts_with(name))?;
            Some(line[name.len()..].trim().trim_end_matches(';').to_owned())
        };
        let socket = value("fastcgi_pass").unwrap_or_default();
        let path = socket.trim_start_matches("unix:");
        match UnixStream::connect(path) {
            Ok(_) => answer(&mut stream, "nginx", "200 OK", "<h1>Tickets</h1>\n"),
            Err(error) => {
                let stamp = Timestamp::now().to_zoned(zone()).strftime("%Y/%m/%d %H:%M:%S").to_string();
                let why = match error.kind() {
                    std::io::ErrorKind::NotFound => "2: No such file or directory",
                    _ => "111: Connection refused",
                };
                let pid = std::process::id();
                let log = value("error_log").unwrap_or_default();
                append(
                    Path::new(&log),
                    &format!(
                        "{stamp} [crit] {pid}#{pid}: *1 connect() to {socket} failed ({why}) while \
                         connecting \
                         to upstream, client: 127.0.0.1, server: edge.saltmarsh-ferries.example, request: \
                         \"{line}\", upstream: \"fastcgi://{socket}:\", host: \"127.0.0.1:{EDGE}\"\n"
                    ),
                );
                answer(&mut stream, "nginx", "502 Bad Gateway", "<h1>502 Bad Gateway</h1>\n");
            }
        }
    }
    Ok(())
}

/// The pool: it says that it does not know what it is asked, in the words of FastCGI.
fn pool(socket: &Path) -> Result<(), String> {
    let _ = fs::remove_file(socket);
    let listener = UnixListener::bind(socket).map_err(|e| e.to_string())?;
    leash();
    ready();
    for mut stream in listener.incoming().flatten() {
        let _ = stream.write_all(&[1, 11, 0, 0, 0, 8, 0, 0, 9, 0, 0, 0, 0, 0, 0, 0]);
    }
    Ok(())
}

/// The application: its pages are there once its database lets it in.
fn boarding(config: &Path) -> Result<(), String> {
    let listener = listen(BOARDING)?;
    let pid = config.with_file_name("boarding.pid");
    fs::write(&pid, format!("{}\n", std::process::id())).map_err(|e| e.to_string())?;
    leash();
    ready();
    for mut stream in listener.incoming().flatten() {
        request(&mut stream);
        match TcpStream::connect(("127.0.0.1", BOOKINGS)).and_then(enter) {
            Ok(true) => answer(&mut stream, "boarding", "200 OK", "<h1>Boarding pass</h1>\n"),
            _ => answer(&mut stream, "boarding", "404 Not Found", "<h1>404: no such application</h1>\n"),
        }
    }
    Ok(())
}

/// Begins a session as the application does; whether it is let in.
fn enter(mut stream: TcpStream) -> std::io::Result<bool> {
    stream.set_read_timeout(Some(Duration::from_secs(2)))?;
    let words = b"user\0boarding\0database\0bookings\0\0";
    let length = u32::try_from(words.len() + 8).unwrap_or(0).to_be_bytes();
    stream.write_all(&[&length[..], &[0, 3, 0, 0], words].concat())?;
    let mut first = [0; 1];
    stream.read_exact(&mut first)?;
    Ok(first[0] == b'R')
}

/// The database: it lets in the roles that a file lists, and answers no questions.
fn bookings(roles: &Path) -> Result<(), String> {
    let listener = listen(BOOKINGS)?;
    leash();
    ready();
    for mut stream in listener.incoming().flatten() {
        let _ = session(&mut stream, roles);
    }
    Ok(())
}

fn session(stream: &mut TcpStream, roles: &Path) -> std::io::Result<()> {
    stream.set_read_timeout(Some(Duration::from_secs(2)))?;
    let mut room = [0; 1024];
    let mut got = stream.read(&mut room)?;
    // The question whether it encrypts comes first, from most clients.
    if room.get(4..8) == Some(&[0x04, 0xd2, 0x16, 0x2f]) {
        stream.write_all(b"N")?;
        got = stream.read(&mut room)?;
    }
    let words = String::from_utf8_lossy(room.get(8..got).unwrap_or_default()).into_owned();
    let role = words.split('\0').skip_while(|w| *w != "user").nth(1).unwrap_or_default().to_owned();
    if role.is_empty() {
        return Ok(());
    }
    let listed = fs::read_to_string(roles).unwrap_or_default();
    if listed.lines().any(|line| line == role) {
        // AuthenticationOk, then ReadyForQuery, outside of a transaction.
        stream.write_all(b"R\0\0\0\x08\0\0\0\0Z\0\0\0\x05I")?;
        let _ = stream.read(&mut room);
        return Ok(());
    }
    let text = format!(
        "SFATAL\0VFATAL\0C28000\0Mrole \"{role}\" is not permitted to log in\0RInitializeSessionUserId\0\0"
    );
    let length = u32::try_from(text.len() + 4).unwrap_or(0).to_be_bytes();
    stream.write_all(&[b"E", &length[..], text.as_bytes()].concat())
}
