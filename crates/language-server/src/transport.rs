//! Messages over two streams, framed by headers (Language Server Protocol 3.17, "Base Protocol").
//!
//! A message that can't be used is answered with an error, and the conversation goes on. Only headers that don't tell where a message
//! ends stop it.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;

use crossbeam_channel::{Receiver, Sender, bounded, select, unbounded};
use lsp_server::{Connection, ErrorCode, Message, Notification, Request, RequestId, Response, ResponseError};
use serde::Deserialize;
use serde_json::error::Category;
use serde_json::{Value, json};

use crate::guard::locked;

/// Most bytes of a message: many times the largest manifest that is read.
const MAX_MESSAGE: u64 = 64 << 20;

/// Most bytes of a line of headers.
const MAX_HEADER: u64 = 4 << 10;

/// Most lines of headers.
const MAX_HEADERS: usize = 32;

/// The writer, and what the reader met.
pub struct Threads {
    writer: JoinHandle<io::Result<()>>,
    /// Dropped when nothing more is to be written, also where a thread still could.
    open: Sender<()>,
    read_error: Arc<Mutex<Option<io::Error>>>,
}

impl Threads {
    /// Writes what was sent until now, and ends. The reader may go on waiting for input, and other threads for registries.
    ///
    /// # Errors
    /// Why the reader stopped, unless the input just ended: `InvalidData` of headers that don't tell where a message ends. Else why
    /// something couldn't be written.
    pub fn finish(self) -> io::Result<()> {
        drop(self.open);
        let written = self.writer.join().unwrap_or_else(|_| Err(io::Error::other("the writer panicked")));
        let read_error = locked(&self.read_error).take();
        read_error.map_or(written, Err)
    }
}

/// Starts reading messages from one stream and writing to another.
pub fn connect(
    input: impl Read + Send + 'static,
    output: impl Write + Send + 'static,
) -> (Connection, Threads) {
    let output = Arc::new(Mutex::new(output));
    let (sender, to_write) = unbounded();
    let (read, receiver) = unbounded();
    let read_error = Arc::new(Mutex::new(None));
    let (refusals, met) = (Arc::clone(&output), Arc::clone(&read_error));
    std::thread::spawn(move || {
        *locked(&met) = read_all(&mut BufReader::new(input), &read, &refusals).err();
        // Only now the channel closes: whoever sees that finds the error.
        drop(read);
    });
    let (open, closed) = bounded(0);
    let writer = std::thread::spawn(move || write_all(&to_write, &closed, &output));
    (Connection { sender, receiver }, Threads { writer, open, read_error })
}

/// A message that can't be used.
#[derive(Debug, PartialEq, Eq)]
struct Refusal {
    code: i32,
    why: String,
}

impl Refusal {
    fn new(code: ErrorCode, why: String) -> Self {
        Self { code: code as i32, why }
    }
}

/// What stands between two headers and the next.
type Received = Result<Option<Message>, Refusal>;

fn read_all<W: Write>(input: &mut impl BufRead, read: &Sender<Message>, output: &Mutex<W>) -> io::Result<()> {
    while let Some(received) = receive(input)? {
        match received {
            Ok(None) => {}
            Ok(Some(message)) => {
                let is_exit = matches!(&message, Message::Notification(one) if one.method == "exit");
                if read.send(message).is_err() || is_exit {
                    break;
                }
            }
            Err(Refusal { code, why }) => {
                let error = ResponseError { code, message: why, data: None };
                let answer = json!({ "jsonrpc": "2.0", "id": null, "error": error });
                write(output, &answer.to_string())?;
            }
        }
    }
    Ok(())
}

fn write_all<W: Write>(
    messages: &Receiver<Message>,
    closed: &Receiver<()>,
    output: &Mutex<W>,
) -> io::Result<()> {
    let mut written = Ok(());
    let until_closed = std::iter::from_fn(|| {
        select! {
            recv(messages) -> message => message.ok(),
            recv(closed) -> _ => None,
        }
    });
    for message in until_closed.chain(messages.try_iter()) {
        // Of an editor that is gone, the rest is taken and dropped.
        if written.is_ok() {
            written = serde_json::to_string(&message).map_err(io::Error::from).and_then(|text| {
                // A message is an object that isn't empty, and names its protocol first.
                write(output, &format!("{{\"jsonrpc\":\"2.0\",{}", &text[1..]))
            });
        }
    }
    written
}

fn write<W: Write>(output: &Mutex<W>, text: &str) -> io::Result<()> {
    let framed = format!("Content-Length: {}\r\n\r\n{text}", text.len());
    let mut output = locked(output);
    output.write_all(framed.as_bytes())?;
    output.flush()
}

/// The next message; `None` at the end of the input.
fn receive(input: &mut impl BufRead) -> io::Result<Option<Received>> {
    let Some(headers) = Headers::read(input)? else { return Ok(None) };
    if headers.length > MAX_MESSAGE {
        skip(input, headers.length)?;
        let why = format!("a message may have {MAX_MESSAGE} bytes; this one has {}", headers.length);
        return Ok(Some(Err(Refusal::new(ErrorCode::InvalidRequest, why))));
    }
    let mut body = Vec::new();
    if input.take(headers.length).read_to_end(&mut body)? as u64 != headers.length {
        return Err(io::ErrorKind::UnexpectedEof.into());
    }
    if let Some(other) = headers.other_charset {
        let why = format!("messages have to be UTF-8; this one is declared as {other}");
        return Ok(Some(Err(Refusal::new(ErrorCode::InvalidRequest, why))));
    }
    Ok(Some(message_of(&body)))
}

fn skip(input: &mut impl BufRead, length: u64) -> io::Result<()> {
    io::copy(&mut input.take(length), &mut io::sink()).map(drop)
}

struct Headers {
    length: u64,
    /// The encoding of the message, where that isn't UTF-8.
    other_charset: Option<String>,
}

impl Headers {
    fn read(input: &mut impl BufRead) -> io::Result<Option<Self>> {
        let (mut length, mut other_charset) = (None, None);
        for number in 0..MAX_HEADERS {
            let mut line = Vec::new();
            input.by_ref().take(MAX_HEADER).read_until(b'\n', &mut line)?;
            if line.is_empty() && number == 0 {
                return Ok(None);
            }
            let line = std::str::from_utf8(&line).ok().and_then(|line| line.strip_suffix("\r\n"));
            let line = line.ok_or_else(|| malformed("a header is no line of text"))?;
            if line.is_empty() {
                let length = length.ok_or_else(|| malformed("a message has no Content-Length"))?;
                return Ok(Some(Self { length, other_charset }));
            }
            let (name, value) = line.split_once(':').ok_or_else(|| malformed("a header has no colon"))?;
            if name.eq_ignore_ascii_case("Content-Length") {
                let value = value.trim().parse().map_err(|_| malformed("Content-Length is no number"))?;
                length = Some(value);
            } else if name.eq_ignore_ascii_case("Content-Type") {
                other_charset = charset_of(value).filter(|charset| !is_utf8(charset));
            }
        }
        Err(malformed("a message has too many headers"))
    }
}

fn charset_of(content_type: &str) -> Option<String> {
    let mut parameters = content_type.split(';').skip(1).filter_map(|one| one.split_once('='));
    let (_, value) = parameters.find(|(name, _)| name.trim().eq_ignore_ascii_case("charset"))?;
    Some(value.trim().trim_matches('"').to_owned())
}

/// The protocol says to take `utf8`, too, which some clients write.
fn is_utf8(charset: &str) -> bool {
    charset.eq_ignore_ascii_case("utf-8") || charset.eq_ignore_ascii_case("utf8")
}

fn malformed(why: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, why)
}

/// All that a message can have.
#[derive(Deserialize)]
struct Envelope {
    id: Option<RequestId>,
    method: Option<String>,
    #[serde(default)]
    params: Value,
    result: Option<Value>,
    error: Option<ResponseError>,
}

/// The message in a text; nothing where it answers nobody's question.
fn message_of(body: &[u8]) -> Received {
    let envelope: Envelope = serde_json::from_slice(body).map_err(|error| match error.classify() {
        Category::Data => Refusal::new(ErrorCode::InvalidRequest, format!("not a message: {error}")),
        _ => Refusal::new(ErrorCode::ParseError, format!("not JSON: {error}")),
    })?;
    let Envelope { id, method, params, result, error } = envelope;
    let is_answer = result.is_some() || error.is_some();
    match (id, method) {
        (Some(id), Some(method)) => Ok(Some(Request { id, method, params }.into())),
        (None, Some(method)) => Ok(Some(Notification { method, params }.into())),
        (Some(id), None) => Ok(Some(match error {
            Some(error) => Response::new_err(id, error.code, error.message).into(),
            None => Response::new_ok(id, result).into(),
        })),
        (None, None) if is_answer => Ok(None),
        (None, None) => Err(Refusal::new(ErrorCode::InvalidRequest, "a message needs a method".to_owned())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn received(input: &[u8]) -> Vec<Received> {
        let mut input = input;
        std::iter::from_fn(|| receive(&mut input).unwrap()).collect()
    }

    fn framed(headers: &str, body: &[u8]) -> Vec<u8> {
        [format!("Content-Length: {}\r\n{headers}\r\n", body.len()).as_bytes(), body].concat()
    }

    fn code(received: &Received) -> Option<i32> {
        received.as_ref().err().map(|refusal| refusal.code)
    }

    const HOVER: &[u8] = br#"{"jsonrpc":"2.0","id":1,"method":"textDocument/hover"}"#;

    #[test]
    fn a_message_that_can_t_be_used_is_refused_and_the_next_is_read() {
        let too_large = 65 << 20;
        let bodies: [(&str, &[u8], i32); 7] = [
            ("", b"\xff\xfe{", -32700),
            ("", b"{\"id\":1", -32700),
            ("", b"[]", -32600),
            ("", b"{}", -32600),
            ("", br#"{"id":99999999999,"method":"x"}"#, -32600),
            ("Content-Type: application/vscode-jsonrpc; charset=utf-16le\r\n", HOVER, -32600),
            ("", &vec![b' '; too_large], -32600),
        ];
        for (headers, body, expected) in bodies {
            let all = received(&[framed(headers, body), framed("", HOVER)].concat());
            assert_eq!(code(&all[0]), Some(expected), "{:?}", all[0]);
            assert!(matches!(&all[1], Ok(Some(Message::Request(request))) if request.id == 1.into()));
            assert_eq!(all.len(), 2);
        }
    }

    #[test]
    fn requests_notifications_and_answers_are_told_apart() {
        let all = [
            HOVER,
            br#"{"method":"exit"}"#,
            br#"{"id":"a","result":null}"#,
            br#"{"id":"a","error":{"code":1,"message":"no"}}"#,
            br#"{"id":null,"error":{"code":1,"message":"no"}}"#,
        ];
        let all: Vec<u8> = all
            .into_iter()
            .flat_map(|body| framed("content-type: text/json; charset=\"utf8\"\r\n", body))
            .collect();
        let kinds: Vec<&str> = received(&all)
            .iter()
            .map(|one| match one.as_ref().unwrap() {
                Some(Message::Request(_)) => "request",
                Some(Message::Notification(_)) => "notification",
                Some(Message::Response(_)) => "response",
                None => "nothing",
            })
            .collect();
        assert_eq!(kinds, ["request", "notification", "response", "response", "nothing"]);
    }

    #[test]
    fn headers_that_don_t_say_where_a_message_ends_are_an_error() {
        let endless = "X: y\r\n".repeat(MAX_HEADERS);
        let long = format!("X: {}\r\n\r\n", "y".repeat(5000));
        for headers in [
            "\r\n",
            "Content-Length\r\n\r\n",
            "Content-Length: -1\r\n\r\n",
            "Content-Length: 1\n\n",
            "Content-Length: 1",
            &endless,
            &long,
        ] {
            let error = receive(&mut headers.as_bytes()).err();
            assert_eq!(error.map(|error| error.kind()), Some(io::ErrorKind::InvalidData), "{headers}");
        }
        let cut = receive(&mut &b"Content-Length: 9\r\n\r\n{}"[..]).err();
        assert_eq!(cut.map(|error| error.kind()), Some(io::ErrorKind::UnexpectedEof));
        assert!(receive(&mut &b""[..]).unwrap().is_none());
    }
}
