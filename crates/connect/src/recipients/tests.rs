//! Each kind of recipient: what it gets, and what is said where it does not get it.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, channel};

use rstest::rstest;
use sluice_core::config::notice::{MailChannel, MailTls};
use sluice_core::notice::Phase;
use sluice_core::notice::body::Body;
use sluice_core::secret::{Secret, SecretRef};
use tempfile::TempDir;

use super::*;

struct Secrets;

impl SecretStore for Secrets {
    fn read(&self, place: &SecretRef) -> Result<Secret, String> {
        match place {
            SecretRef::Env(name) if name == "TOKEN" => Ok(Secret::new("gate-7")),
            _ => Err("the variable NOTHING is not set".into()),
        }
    }
}

fn message() -> Message {
    Message::new(
        ("7-begins", "tarrow", "stops", "tolls"),
        Phase::Begins,
        ("tolls stopped: \"Été\" is 'too' late\n", "sluice start tolls"),
        (1_775_031_300_000_000, 1_775_031_300_000_000),
    )
}

fn send_to(channel: Channel) -> (TempDir, Result<(), String>) {
    let folder = tempfile::tempdir().unwrap();
    let sent = send(&Recipient { name: "desk".into(), channel }, &message(), folder.path(), &Secrets);
    (folder, sent)
}

fn shell(script: &str) -> Channel {
    Channel::Command(["sh", "-c", script].map(String::from).to_vec())
}

#[test]
fn a_program_gets_the_message_and_says_whether_it_has_it() {
    let (folder, sent) = send_to(shell("cat > got"));
    assert_eq!(sent, Ok(()));
    let got: Message = serde_json::from_str(&std::fs::read_to_string(folder.path().join("got")).unwrap()).unwrap();
    assert_eq!(got, message());
    // One that reads nothing has it too.
    assert_eq!(send_to(shell("exit 0")).1, Ok(()));
}

#[rstest]
#[case("echo no route >&2; exit 3", "sh ended with exit code 3: no route")]
#[case("kill -9 $$", "sh was ended by signal 9")]
#[case("printf '\\033[31mred\\n' >&2; exit 1", "sh ended with exit code 1: ␛[31mred")]
fn a_program_that_fails_says_why(#[case] script: &str, #[case] expected: &str) {
    assert_eq!(send_to(shell(script)).1.unwrap_err(), expected);
}

#[test]
fn a_program_that_is_not_there_is_named() {
    let said = send_to(Channel::Command(vec!["no-such-program".into()])).1.unwrap_err();
    assert!(said.starts_with("cannot run no-such-program: "), "{said}");
}

/// Whatever it left behind ends with it.
#[test]
fn a_program_that_does_not_end_is_killed() {
    let folder = tempfile::tempdir().unwrap();
    let script = ["sh", "-c", "sleep 600 & echo $! > pid; wait"].map(String::from);
    let said = command::run(&script, &message(), folder.path(), Duration::from_secs(1)).unwrap_err();
    assert!(said.contains("did not end within"), "{said}");
    let pid = std::fs::read_to_string(folder.path().join("pid")).unwrap();
    let state = PathBuf::from(format!("/proc/{}/stat", pid.trim()));
    let is_gone = || std::fs::read_to_string(&state).map_or(true, |stat| stat.contains(") Z "));
    assert!((0..100).any(|_| is_gone() || {
        std::thread::sleep(Duration::from_millis(20));
        false
    }));
}

#[test]
fn a_file_gets_a_line_for_each_message() {
    let folder = tempfile::tempdir().unwrap();
    let recipient = Recipient { name: "desk".into(), channel: Channel::File("sub/notices.jsonl".into()) };
    let path = folder.path().join("sub/notices.jsonl");
    send(&recipient, &message(), folder.path(), &Secrets).unwrap();
    // A crash cut the second one off.
    std::fs::OpenOptions::new().append(true).open(&path).unwrap().write_all(b"{\"id\":\"6").unwrap();
    send(&recipient, &message(), folder.path(), &Secrets).unwrap();
    let text = std::fs::read_to_string(&path).unwrap();
    let good = text.lines().filter(|line| serde_json::from_str::<Message>(line).is_ok()).count();
    assert_eq!((text.lines().count(), good), (3, 2), "{text}");
}

#[test]
fn a_file_that_cannot_be_written_is_named() {
    let said = send_to(Channel::File(".".into())).1.unwrap_err();
    assert!(said.contains("cannot write"), "{said}");
}

/// Answers one request; gives what was asked.
fn server(answer: &'static str) -> (String, Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let (sender, receiver) = channel();
    std::thread::spawn(move || {
        let (stream, _) = listener.accept().unwrap();
        let text = read_request(&stream);
        (&stream).write_all(answer.as_bytes()).unwrap();
        sender.send(text).unwrap();
    });
    (format!("http://{address}"), receiver)
}

fn read_request(stream: &TcpStream) -> String {
    let mut reader = BufReader::new(stream);
    let (mut text, mut length) = (String::new(), 0);
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).unwrap();
        if let Some(value) = line.to_ascii_lowercase().strip_prefix("content-length:") {
            length = value.trim().parse().unwrap();
        }
        text.push_str(&line);
        if line.trim().is_empty() {
            break;
        }
    }
    let mut body = vec![0; length];
    reader.read_exact(&mut body).unwrap();
    text + &String::from_utf8(body).unwrap()
}

fn post(url: String, body: &str, token: bool) -> Channel {
    let token = token.then(|| SecretRef::Env("TOKEN".into()));
    Channel::Post { url, body: Body::parse(body).unwrap(), token }
}

const GOOD: &str = "HTTP/1.1 204 No Content\r\n\r\n";

#[test]
fn a_request_carries_the_message_and_the_token() {
    let (url, asked) = server(GOOD);
    assert_eq!(send_to(post(format!("{url}/hooks/locks"), "{\"text\": {message}}", true)).1, Ok(()));
    let asked = asked.recv().unwrap();
    assert!(asked.starts_with("POST /hooks/locks HTTP/1.1\r\n"), "{asked}");
    assert!(asked.contains("authorization: Bearer gate-7\r\n"), "{asked}");
    assert!(asked.contains("idempotency-key: 7-begins\r\n"), "{asked}");
    let body: serde_json::Value = serde_json::from_str(asked.split("\r\n\r\n").nth(1).unwrap()).unwrap();
    assert_eq!(body["text"], message().message);
}

#[test]
fn a_token_in_the_url_is_sent_nowhere_else() {
    let (url, asked) = server(GOOD);
    assert_eq!(send_to(post(format!("{url}/hooks/{{token}}"), "text", true)).1, Ok(()));
    let asked = asked.recv().unwrap();
    assert!(asked.starts_with("POST /hooks/gate-7 HTTP/1.1\r\n"), "{asked}");
    assert!(!asked.contains("authorization"), "{asked}");
    assert!(asked.contains("content-type: text/plain"), "{asked}");
}

#[test]
fn a_refusal_is_told_without_the_token() {
    let (url, _asked) = server("HTTP/1.1 403 Forbidden\r\ncontent-length: 20\r\n\r\nno hook \x1bgate-7 here");
    let said = send_to(post(format!("{url}/{{token}}"), "json", true)).1.unwrap_err();
    assert_eq!(said, "the answer is 403 Forbidden: no hook ␛*** here");
}

/// Another server gets neither the message nor the token.
#[test]
fn redirects_are_not_followed() {
    let (url, _asked) = server("HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\n\r\n");
    assert!(send_to(post(url, "json", true)).1.unwrap_err().contains("302"));
}

#[test]
fn a_server_that_is_not_there_is_told_without_the_token() {
    let said = send_to(post("http://127.0.0.1:1/{token}".into(), "json", true)).1.unwrap_err();
    assert!(said.to_lowercase().contains("refused") && !said.contains("gate-7"), "{said}");
}

#[test]
fn a_missing_token_is_named() {
    let channel = Channel::Post {
        url: "http://127.0.0.1:1/".into(),
        body: Body::Json,
        token: Some(SecretRef::Env("NOTHING".into())),
    };
    assert_eq!(send_to(channel).1.unwrap_err(), "the variable NOTHING is not set");
}

/// A mail server that says `last` to the mail itself; gives what it was told.
fn mail_server(last: &'static str) -> (u16, Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let (sender, receiver) = channel();
    std::thread::spawn(move || {
        let (stream, _) = listener.accept().unwrap();
        let mut reader = BufReader::new(&stream);
        let mut told = String::new();
        let say = |text: &str| _ = (&stream).write_all(format!("{text}\r\n").as_bytes());
        say("220 mail.tarrow.example");
        let mut in_mail = false;
        loop {
            let mut line = String::new();
            if reader.read_line(&mut line).unwrap_or(0) == 0 {
                break;
            }
            told.push_str(&line);
            match line.trim_end() {
                "." if in_mail => {
                    in_mail = false;
                    say(last);
                }
                _ if in_mail => {}
                "DATA" => {
                    in_mail = true;
                    say("354 go on");
                }
                "QUIT" => {
                    say("221 bye");
                    break;
                }
                _ => say("250 fine"),
            }
        }
        sender.send(told).unwrap();
    });
    (port, receiver)
}

fn mail(port: u16, tls: MailTls) -> Channel {
    Channel::Mail(Box::new(MailChannel {
        to: vec!["master@tarrow.example".into(), "deputy@tarrow.example".into()],
        from: "sluice@tarrow.example".into(),
        host: "127.0.0.1".into(),
        port,
        tls,
        authority: None,
        login: None,
    }))
}

#[test]
fn mail_goes_to_each_address_with_the_headline_as_its_subject() {
    let (port, told) = mail_server("250 taken");
    assert_eq!(send_to(mail(port, MailTls::Never)).1, Ok(()));
    let told = told.recv().unwrap();
    for expected in [
        "MAIL FROM:<sluice@tarrow.example>",
        "RCPT TO:<master@tarrow.example>",
        "RCPT TO:<deputy@tarrow.example>",
        "Message-ID: <7-begins@sluice>",
        "sluice start tolls",
    ] {
        assert!(told.contains(expected), "{expected}\n{told}");
    }
    let subject = told.lines().find(|line| line.starts_with("Subject: ")).unwrap();
    assert!(subject.contains("tarrow"), "{subject}");
}

#[test]
fn a_mail_server_that_refuses_is_named() {
    let (port, _told) = mail_server("552 the box is full");
    let said = send_to(mail(port, MailTls::Never)).1.unwrap_err();
    assert!(said.contains("127.0.0.1") && said.contains("the box is full"), "{said}");
}

/// A server that cannot encrypt does not get the mail.
#[test]
fn mail_is_not_sent_in_the_open_unless_that_is_said() {
    let (port, told) = mail_server("250 taken");
    assert!(send_to(mail(port, MailTls::Start)).1.is_err());
    assert!(!told.recv().unwrap().contains("DATA"));
}
