//! A WebDAV server over a folder, that fails as it is told to.
//!
//! Source: RFC 4918 (PROPFIND, MKCOL, MOVE), RFC 9110 (Range, If-None-Match), as far as a client needs it to keep objects.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::thread::JoinHandle;

/// What happens to a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Upset {
    /// It is answered as it should be.
    None,
    /// It is refused with this status, before anything is done.
    Status(u16),
    /// The connection is closed without an answer, before anything is done.
    Closed,
    /// It is done, and the connection is closed before the answer.
    Unsaid,
    /// Half of the answer's body comes, and the connection is closed.
    Cut,
    /// Bytes of the answer's body are others, where it is content.
    Wrong,
    /// No answer comes as long as the server is there.
    Hang,
}

/// A request, as far as it decides what happens to it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    /// `GET`, `PUT` …
    pub method: String,
    /// Below the server's folder.
    pub path: String,
    /// The how manyth request of the server it is, from 1 on.
    pub number: usize,
}

type Decide = dyn Fn(&Request) -> Upset + Send + Sync;

struct Shared {
    root: PathBuf,
    decide: Mutex<Arc<Decide>>,
    seen: Mutex<Vec<Request>>,
    ended: AtomicBool,
    hung: Mutex<usize>,
    changed: Condvar,
}

/// A server that ends when it is dropped.
pub struct Dav {
    port: u16,
    shared: Arc<Shared>,
    accepting: Option<JoinHandle<()>>,
}

impl Dav {
    /// Serves a folder at a port that is free.
    pub fn new(root: &Path) -> Dav {
        fs::create_dir_all(root).unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let shared = Arc::new(Shared {
            root: root.to_path_buf(),
            decide: Mutex::new(Arc::new(|_| Upset::None)),
            seen: Mutex::default(),
            ended: AtomicBool::new(false),
            hung: Mutex::default(),
            changed: Condvar::new(),
        });
        let for_all = shared.clone();
        let accepting = std::thread::spawn(move || {
            for stream in listener.incoming() {
                if for_all.ended.load(Ordering::SeqCst) {
                    return;
                }
                let shared = for_all.clone();
                // A client that goes away in the middle is no mistake of the server's.
                std::thread::spawn(move || stream.and_then(|s| shared.serve(&s)));
            }
        });
        Dav { port, shared, accepting: Some(accepting) }
    }

    /// Its URL, as a depot names it.
    pub fn url(&self) -> String {
        format!("webdav://127.0.0.1:{}", self.port)
    }

    /// From now on requests meet this.
    pub fn upset(&self, decide: impl Fn(&Request) -> Upset + Send + Sync + 'static) {
        *self.shared.decide.lock().unwrap() = Arc::new(decide);
    }

    /// The requests so far; they are forgotten.
    pub fn take_requests(&self) -> Vec<Request> {
        std::mem::take(&mut *self.shared.seen.lock().unwrap())
    }

    /// Waits until a request hangs, one that was not waited for before.
    pub fn wait_until_one_hangs(&self) {
        let hung = self.shared.hung.lock().unwrap();
        *self.shared.changed.wait_while(hung, |n| *n == 0).unwrap() = 0;
    }
}

impl Drop for Dav {
    fn drop(&mut self) {
        self.shared.ended.store(true, Ordering::SeqCst);
        // Wakes the one who accepts.
        drop(TcpStream::connect(("127.0.0.1", self.port)));
        if let Some(accepting) = self.accepting.take() {
            let _ = accepting.join();
        }
    }
}

/// What is answered: a status, headers and a body.
type Answer = (u16, Vec<(&'static str, String)>, Vec<u8>);

impl Shared {
    fn serve(&self, stream: &TcpStream) -> std::io::Result<()> {
        let mut reader = BufReader::new(stream.try_clone()?);
        loop {
            let mut line = String::new();
            if reader.read_line(&mut line)? == 0 {
                return Ok(());
            }
            let mut words = line.split_whitespace();
            let (method, target) = (words.next().unwrap_or_default().to_string(), words.next().unwrap_or_default().to_string());
            let mut headers = Vec::new();
            loop {
                let mut line = String::new();
                reader.read_line(&mut line)?;
                match line.trim_end().split_once(':') {
                    Some((name, value)) => headers.push((name.to_lowercase(), value.trim().to_string())),
                    None => break,
                }
            }
            let header = |name: &str| headers.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str());
            let mut body = vec![0; header("content-length").map_or(0, |n| n.parse().unwrap())];
            reader.read_exact(&mut body)?;
            let path = target.trim_start_matches('/').to_string();
            let request = {
                let mut seen = self.seen.lock().unwrap();
                let request = Request { method, path, number: seen.len() + 1 };
                seen.push(request.clone());
                request
            };
            let decide = self.decide.lock().unwrap().clone();
            let upset = decide(&request);
            match upset {
                Upset::Status(status) => say(stream, &(status, Vec::new(), b"no".to_vec()), usize::MAX)?,
                Upset::Closed => return stream.shutdown(std::net::Shutdown::Both),
                Upset::Hang => {
                    *self.hung.lock().unwrap() += 1;
                    self.changed.notify_all();
                    // Until the client has had enough.
                    let _ = reader.read(&mut [0]);
                    return Ok(());
                }
                _ => {
                    let mut answer = self.answer(&request, &header, &body);
                    let is_content = request.method == "GET" && !answer.2.is_empty();
                    match upset {
                        Upset::Unsaid => return stream.shutdown(std::net::Shutdown::Both),
                        Upset::Cut if is_content => {
                            say(stream, &answer, answer.2.len() / 2)?;
                            return stream.shutdown(std::net::Shutdown::Both);
                        }
                        Upset::Wrong if is_content => {
                            let middle = answer.2.len() / 2;
                            answer.2[middle] ^= 0x55;
                        }
                        _ => {}
                    }
                    say(stream, &answer, usize::MAX)?;
                }
            }
        }
    }

    fn answer<'a>(&self, request: &Request, header: &impl Fn(&str) -> Option<&'a str>, body: &[u8]) -> Answer {
        let file = self.root.join(&request.path);
        let status = |status: u16| -> Answer { (status, Vec::new(), Vec::new()) };
        let of = |done: std::io::Result<()>, good: u16, bad: u16| status(if done.is_ok() { good } else { bad });
        match request.method.as_str() {
            "PUT" => of(fs::write(&file, body), 201, 409),
            "MKCOL" => of(fs::create_dir(&file), 201, 405),
            "DELETE" => of(fs::remove_file(&file), 204, 404),
            "MOVE" => {
                let to = header("destination").unwrap_or_default().splitn(4, '/').nth(3).unwrap_or_default();
                of(fs::rename(&file, self.root.join(to)), 201, 409)
            }
            "GET" => match fs::read(&file) {
                Err(_) => status(404),
                Ok(bytes) => match header("range").and_then(|r| r.strip_prefix("bytes=")).and_then(|r| r.split_once('-')) {
                    None => (200, Vec::new(), bytes),
                    Some((from, to)) => {
                        let from: usize = from.parse().unwrap();
                        let end = to.parse::<usize>().map_or(bytes.len(), |to| (to + 1).min(bytes.len()));
                        let range = format!("bytes {from}-{}/{}", end.saturating_sub(1), bytes.len());
                        match bytes.get(from..end) {
                            Some(part) => (206, vec![("Content-Range", range)], part.to_vec()),
                            None => status(416),
                        }
                    }
                },
            },
            "PROPFIND" => match self.properties(&request.path, header("depth") == Some("0")) {
                Some(xml) => (207, vec![("Content-Type", "application/xml".to_string())], xml.into_bytes()),
                None => status(404),
            },
            _ => status(405),
        }
    }

    /// What `PROPFIND` tells of a file or folder, and of what lies right in it.
    fn properties(&self, path: &str, is_alone: bool) -> Option<String> {
        let mut told = vec![path.trim_end_matches('/').to_string()];
        let at = self.root.join(path);
        let about = fs::metadata(&at).ok()?;
        if about.is_dir() && !is_alone {
            for entry in fs::read_dir(&at).ok()? {
                told.push(format!("{}/{}", told[0], entry.ok()?.file_name().to_str()?).trim_start_matches('/').to_string());
            }
        }
        let mut xml = String::from("<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\">");
        for path in told {
            // What was removed in between is not told of.
            let Ok(about) = fs::metadata(self.root.join(&path)) else { continue };
            let (slash, kind) = if about.is_dir() { ("/", "<D:collection/>") } else { ("", "") };
            let href = format!("/{path}{slash}").replace("//", "/");
            xml.push_str(&format!(
                "<D:response><D:href>{href}</D:href><D:propstat><D:prop><D:getlastmodified>Thu, 26 Nov 2026 12:00:00 GMT</D:getlastmodified>\
                 <D:getcontentlength>{}</D:getcontentlength><D:resourcetype>{kind}</D:resourcetype></D:prop>\
                 <D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>",
                about.len()
            ));
        }
        Some(xml + "</D:multistatus>")
    }
}

/// Writes an answer with so many bytes of its body at most.
fn say(mut stream: &TcpStream, (status, headers, body): &Answer, most: usize) -> std::io::Result<()> {
    let mut text = format!("HTTP/1.1 {status} said\r\nContent-Length: {}\r\n", body.len());
    for (name, value) in headers {
        text.push_str(&format!("{name}: {value}\r\n"));
    }
    let bytes = [text.as_bytes(), b"\r\n", &body[..body.len().min(most)]].concat();
    stream.write_all(&bytes)
}
