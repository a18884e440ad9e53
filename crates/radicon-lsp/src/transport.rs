//! Messages over standard input and output. What is no message is answered, and the next one is looked for: an editor
//! that errs once keeps its server.

use std::io::{self, BufRead, Read, Write};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};

use lsp_server::{Connection, ErrorCode, Message, RequestId};
use rustc_hash::FxHashSet;
use serde_json::{Value, json};

/// The most bytes of one message.
const MOST_BYTES: usize = 256 << 20;

/// The start of what is before each message.
const LENGTH: &[u8] = b"Content-Length:";

/// The requests that the editor no longer wants answered.
#[derive(Clone, Default)]
pub struct Cancelled(Arc<Mutex<FxHashSet<RequestId>>>);

impl Cancelled {
    /// Whether a request was cancelled before its turn came.
    pub fn take(&self, id: &RequestId) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(id)
    }

    fn note(&self, params: &Value) {
        let id = params.get("id").cloned().and_then(|id| serde_json::from_value(id).ok());
        if let Some(id) = id {
            self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(id);
        }
    }
}

/// A connection over standard input and output. Ends when the input does, or with the notification `exit`.
pub fn stdio() -> (Connection, Cancelled, JoinHandle<io::Result<()>>) {
    let (to_server, receiver) = crossbeam_channel::unbounded();
    let (sender, from_server) = crossbeam_channel::unbounded::<Message>();
    let cancelled = Cancelled::default();
    let noted = cancelled.clone();
    let answer = |message: Value| write(&message.to_string());
    // It may wait for input for ever: nobody waits for it.
    thread::spawn(move || {
        let mut input = Input { from: io::stdin().lock(), ahead: Vec::new() };
        while let Some(read) = input.next_message() {
            let message = match read {
                Ok(message) => message,
                Err(error) => {
                    answer(error)?;
                    continue;
                }
            };
            let is_exit = matches!(&message, Message::Notification(note) if note.method == "exit");
            if let Message::Notification(note) = &message
                && note.method == "$/cancelRequest"
            {
                noted.note(&note.params);
            }
            if to_server.send(message).is_err() || is_exit {
                break;
            }
        }
        io::Result::Ok(())
    });
    let writer = thread::spawn(move || {
        from_server.into_iter().try_for_each(|message| {
            let mut out = io::stdout().lock();
            message.write(&mut out)
        })
    });
    (Connection { sender, receiver }, cancelled, writer)
}

fn write(text: &str) -> io::Result<()> {
    let mut out = io::stdout().lock();
    write!(out, "Content-Length: {}\r\n\r\n{text}", text.len())?;
    out.flush()
}

/// Reads messages, and finds the next one after what is none.
struct Input<R> {
    from: R,
    /// What was read and is yet to be looked at.
    ahead: Vec<u8>,
}

impl<R: BufRead> Input<R> {
    /// The next message, or the answer to what is none; `None` at the end of the input.
    fn next_message(&mut self) -> Option<Result<Message, Value>> {
        let mut length = None;
        loop {
            let line = self.line()?;
            // After a length that was too short the rest of a message is before the next one.
            let found = memchr::memmem::find(&line, LENGTH);
            if let Some(at) = found {
                let number = String::from_utf8_lossy(&line[at + LENGTH.len()..]).trim().parse::<usize>();
                match number.ok().filter(|number| *number <= MOST_BYTES) {
                    Some(number) => length = Some(number),
                    None => return Some(Err(error(&Value::Null, ErrorCode::ParseError, "the length is no number"))),
                }
            } else if line.trim_ascii().is_empty() && length.is_some() {
                break;
            }
        }
        let body = self.bytes(length?)?;
        let Ok(value) = serde_json::from_slice::<Value>(&body) else {
            // After a length that was too long the next message is within this one.
            let begins = |at: &usize| LENGTH.starts_with(&body[*at..]);
            let cut_off = || (body.len().saturating_sub(LENGTH.len())..body.len()).find(begins);
            if let Some(at) = memchr::memmem::find(&body, LENGTH).or_else(cut_off) {
                self.ahead.splice(0..0, body[at..].iter().copied());
            }
            return Some(Err(error(&Value::Null, ErrorCode::ParseError, "the message is no JSON of this length")));
        };
        let id = value.get("id").cloned().unwrap_or_default();
        let read = serde_json::from_value(value);
        Some(read.map_err(|why| error(&id, ErrorCode::InvalidRequest, &format!("the message cannot be read: {why}"))))
    }

    fn line(&mut self) -> Option<Vec<u8>> {
        let mut line = match memchr::memchr(b'\n', &self.ahead) {
            Some(end) => return Some(self.ahead.drain(..=end).collect()),
            None => std::mem::take(&mut self.ahead),
        };
        let count = self.from.read_until(b'\n', &mut line).ok()?;
        (count > 0).then_some(line)
    }

    fn bytes(&mut self, length: usize) -> Option<Vec<u8>> {
        let known = length.min(self.ahead.len());
        let mut bytes: Vec<u8> = self.ahead.drain(..known).collect();
        let more = (length - known) as u64;
        let read = (&mut self.from).take(more).read_to_end(&mut bytes).ok()?;
        (read as u64 == more).then_some(bytes)
    }
}

fn error(id: &Value, code: ErrorCode, message: &str) -> Value {
    json!({ "jsonrpc": "2.0", "id": id, "error": { "code": code as i32, "message": message } })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn framed(text: &str, length: usize) -> String {
        format!("Content-Length: {length}\r\n\r\n{text}")
    }

    #[test]
    fn the_next_message_is_found_after_what_is_none() {
        let good = r#"{"jsonrpc":"2.0","id":7,"method":"shutdown"}"#;
        let whole = framed(good, good.len());
        for (wrong, errors) in [
            (String::new(), 0),
            (framed("{nonsense", 9), 1),
            (framed(good, good.len() - 5), 1),
            (framed(good, good.len() + 9), 1),
            ("Content-Length: many\r\n\r\n".into(), 1),
            ("Content-Length: 99999999999\r\n\r\n".into(), 1),
            (framed(r#"{"jsonrpc":"2.0","id":3}"#, 24), 0),
            (framed("[]", 2), 1),
            ("nonsense\r\n".into(), 0),
        ] {
            let text = format!("{wrong}{whole}");
            let mut input = Input { from: text.as_bytes(), ahead: Vec::new() };
            let read: Vec<_> = std::iter::from_fn(|| input.next_message()).collect();
            let good =
                read.iter().filter(|read| matches!(read, Ok(Message::Request(request)) if request.id == 7.into()));
            assert_eq!((good.count(), read.iter().filter(|read| read.is_err()).count()), (1, errors), "{wrong}");
        }
    }
}
