//! An MQTT broker as a way in: a thread keeps the connection and posts what is published.
//!
//! Opening never waits for a broker: an attempt runs on a thread of its own, and whoever asks meanwhile is told how it
//! stands. After each failure the next attempt waits twice as long, up to half a minute.

use crate::i2c::Fault;
use crate::inlet::{Inlet, OpenInlet, Shut};
use crate::posted::{Poster, posted};
use rumqttc::{
    Client, ConnectReturnCode, Connection, ConnectionError, Event, MqttOptions, Packet, QoS,
    SubscribeReasonCode,
};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender, TryRecvError, channel};
use std::time::{Duration, Instant};
use wasvolta_wire::decode::Sink;
use wasvolta_wire::mqtt;

const FIRST_WAIT: Duration = Duration::from_millis(500);
const LONGEST_WAIT: Duration = Duration::from_secs(30);
/// A broker that is silent for one and a half of this is gone.
const KEEP_ALIVE: Duration = Duration::from_secs(5);
/// The thread looks this often whether anybody listens still.
const LOOK: Duration = Duration::from_millis(200);
/// The longest file with a login.
const LONGEST_LOGIN: u64 = 4096;

/// Where a broker is, and what is listened to there.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Broker {
    /// Its name or address.
    pub host: String,
    /// Its TCP port.
    pub port: u16,
    /// The filter of topics.
    pub topics: String,
    /// Topics to which the last wills of senders go.
    pub wills: Vec<String>,
    /// The file with a name and a password.
    pub login_file: Option<String>,
}

impl Broker {
    fn place(&self) -> String {
        format!("{}:{}", self.host, self.port)
    }
}

/// What opens a way to a broker, again and again if it must.
pub fn opener(broker: Broker) -> OpenInlet {
    let mut opening = Opening { broker, attempt: None, wait: FIRST_WAIT, not_before: None, last: None };
    Box::new(move || opening.turn())
}

type Attempt = Result<Box<dyn Inlet>, Shut>;

struct Opening {
    broker: Broker,
    attempt: Option<Receiver<Attempt>>,
    wait: Duration,
    not_before: Option<Instant>,
    last: Option<Shut>,
}

impl Opening {
    fn turn(&mut self) -> Attempt {
        let done = match self.attempt.as_ref().map(Receiver::try_recv) {
            Some(Ok(done)) => Some(done),
            Some(Err(TryRecvError::Disconnected)) => {
                Some(Err(shut(&self.broker, "hear", "its thread has ended", Fault::OtherKind)))
            }
            Some(Err(TryRecvError::Empty)) => None,
            None => {
                if self.not_before.is_none_or(|time| Instant::now() >= time) {
                    self.attempt = Some(begin(&self.broker));
                }
                None
            }
        };
        match done {
            None => Err(self.last.clone().unwrap_or_else(|| Shut {
                words: format!("connecting to the broker at {}", self.broker.place()),
                help: "this takes a moment".to_owned(),
                fault: Fault::Silent,
            })),
            Some(Ok(inlet)) => {
                (self.attempt, self.last, self.wait, self.not_before) = (None, None, FIRST_WAIT, None);
                Ok(inlet)
            }
            Some(Err(shut)) => {
                self.attempt = None;
                self.not_before = Some(Instant::now() + self.wait);
                self.wait = (self.wait * 2).min(LONGEST_WAIT);
                self.last = Some(shut.clone());
                Err(shut)
            }
        }
    }
}

fn shut(broker: &Broker, doing: &str, words: &str, fault: Fault) -> Shut {
    let help = match fault {
        Fault::Denied => "write a login_file with the name and the password that it knows",
        Fault::NoBus => "check the host's name",
        _ => "is it running, and does it listen there? It is tried again and again",
    };
    Shut {
        words: format!("cannot {doing} the broker at {}: {words}", broker.place()),
        help: help.to_owned(),
        fault,
    }
}

/// The name and the password in a file that nobody else can read.
///
/// # Errors
/// When it is not there, when others can read it, and when it has not two lines.
pub fn login(path: &Path) -> Result<(String, String), Shut> {
    use std::os::unix::fs::MetadataExt;
    let bad = |words: String, help: &str, fault| Shut { words, help: help.to_owned(), fault };
    let at = path.display();
    let there = std::fs::metadata(path).map_err(|_| {
        bad(
            format!("cannot read the login in {at}: it is not there"),
            "write the file, or give its absolute path",
            Fault::NoBus,
        )
    })?;
    if there.mode() & 0o077 != 0 {
        let help = format!("make it readable by you alone: chmod 600 {at}");
        return Err(bad(
            format!("others can read the login in {at}, so it is not used"),
            &help,
            Fault::Denied,
        ));
    }
    let text = if there.is_file() && there.len() <= LONGEST_LOGIN {
        std::fs::read_to_string(path).ok()
    } else {
        None
    };
    let lines: Option<(String, String)> = text.and_then(|text| {
        let mut lines = text.lines();
        Some((lines.next()?.to_owned(), lines.next()?.to_owned()))
    });
    lines.filter(|(name, _)| !name.is_empty()).ok_or_else(|| {
        bad(
            format!("{at} is not a login"),
            "write the name in its first line and the password in its second",
            Fault::OtherKind,
        )
    })
}

/// A path from the root, or from home.
fn whole(path: &str) -> PathBuf {
    match (path.strip_prefix("~/"), std::env::var_os("HOME")) {
        (Some(rest), Some(home)) => Path::new(&home).join(rest),
        _ => PathBuf::from(path),
    }
}

/// Tries once, on a thread of its own, which goes on as the way's when it succeeds.
fn begin(broker: &Broker) -> Receiver<Attempt> {
    let (done, attempt) = channel();
    let broker = broker.clone();
    std::thread::spawn(move || {
        let connected = posted()
            .map_err(|error| shut(&broker, "hear", &error.to_string(), Fault::OtherKind))
            .and_then(|(mut poster, inlet)| {
                let (client, connection) = connect(&broker, &mut poster)?;
                Ok((client, connection, poster, inlet))
            });
        match connected {
            Ok((client, connection, poster, inlet)) => {
                hand_over(&done, inlet);
                listen(&broker, &client, connection, poster);
            }
            Err(shut) => {
                let _ = done.send(Err(shut));
            }
        }
    });
    attempt
}

fn hand_over(done: &Sender<Attempt>, inlet: Box<dyn Inlet>) {
    // Whoever asked may have gone.
    let _ = done.send(Ok(inlet));
}

/// Connects and subscribes; the broker has said yes to both. What it has kept may come before the last yes.
fn connect(broker: &Broker, poster: &mut Poster) -> Result<(Client, Connection), Shut> {
    // A broker tells its clients apart by their names, and throws the older one out.
    let id = format!("wasvolta-{}-{:08x}", std::process::id(), broker_number());
    let mut options = MqttOptions::new(id, &broker.host, broker.port);
    options.set_keep_alive(KEEP_ALIVE).set_clean_session(true).set_max_packet_size(2 * mqtt::LONGEST, 1024);
    if let Some(file) = &broker.login_file {
        let (name, password) = login(&whole(file))?;
        options.set_credentials(name, password);
    }
    let (client, mut connection) = Client::new(options, 64);
    let filters = std::iter::once(&broker.topics).chain(&broker.wills);
    for filter in filters {
        client
            .try_subscribe(filter, QoS::AtMostOnce)
            .map_err(|error| shut(broker, "ask", &error.to_string(), Fault::OtherKind))?;
    }
    let mut wanted = 1 + broker.wills.len();
    while wanted > 0 {
        match connection.recv() {
            Ok(Ok(Event::Incoming(Packet::SubAck(ack)))) => {
                if ack.return_codes.contains(&SubscribeReasonCode::Failure) {
                    let words = format!("it does not let this name listen to {}", broker.topics);
                    return Err(shut(broker, "listen at", &words, Fault::Denied));
                }
                wanted -= 1;
            }
            Ok(Ok(event)) => take(broker, &event, poster),
            Ok(Err(error)) => return Err(failed(broker, &error)),
            Err(_) => return Err(shut(broker, "hear", "the connection has ended", Fault::Silent)),
        }
    }
    Ok((client, connection))
}

/// A number that no other way of this program has.
fn broker_number() -> u32 {
    use std::sync::atomic::{AtomicU32, Ordering};
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let time = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .map_or(0, |time| time.subsec_nanos());
    time ^ NEXT.fetch_add(1, Ordering::Relaxed) << 24
}

fn failed(broker: &Broker, error: &ConnectionError) -> Shut {
    match error {
        ConnectionError::ConnectionRefused(code) => {
            let words = match code {
                ConnectReturnCode::BadUserNamePassword => "it does not know the name and password",
                ConnectReturnCode::NotAuthorized => "it wants a name and a password that it knows",
                ConnectReturnCode::ServiceUnavailable => "it is not ready",
                _ => "it does not take this client",
            };
            shut(broker, "listen at", words, Fault::Denied)
        }
        ConnectionError::Io(error) => {
            let fault = if error.kind() == std::io::ErrorKind::ConnectionRefused {
                Fault::Silent
            } else {
                Fault::NoBus
            };
            let words = error.to_string();
            let words = words.split(" (os error").next().unwrap_or_default().to_lowercase();
            shut(broker, "reach", &words, fault)
        }
        ConnectionError::NetworkTimeout | ConnectionError::FlushTimeout => {
            shut(broker, "reach", "it does not answer", Fault::Silent)
        }
        _ => shut(broker, "understand", "what answers there speaks no MQTT 3.1.1", Fault::Foreign),
    }
}

/// Posts what a message says, and what it says of its sender.
fn take(broker: &Broker, event: &Event, poster: &mut Poster) {
    let Event::Incoming(Packet::Publish(message)) = event else { return };
    if broker.wills.contains(&message.topic) {
        return poster.will(&message.topic, mqtt::is_there(&message.payload));
    }
    mqtt::read(&message.topic, &message.payload, message.retain, poster);
}

/// Posts what is published until the connection or whoever listens is gone.
fn listen(broker: &Broker, client: &Client, mut connection: Connection, mut poster: Poster) {
    while !poster.is_abandoned() {
        match connection.recv_timeout(LOOK) {
            Ok(Ok(event)) => take(broker, &event, &mut poster),
            Err(rumqttc::RecvTimeoutError::Timeout) => {}
            Ok(Err(_)) | Err(rumqttc::RecvTimeoutError::Disconnected) => return,
        }
    }
    // A broker that hears of the end counts no loss; it takes one more turn to say it.
    if client.try_disconnect().is_ok() {
        let _ = connection.recv_timeout(LOOK);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn a_login_that_others_can_read_is_not_used() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("login");
        let missing = login(&path).unwrap_err();
        assert!(missing.words.ends_with("it is not there"), "{missing}");
        std::fs::write(&path, "reeds\nsecret word\n").unwrap();
        let mode = |mode| std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
        for open in [0o644, 0o640, 0o604] {
            mode(open);
            let refused = login(&path).unwrap_err();
            assert!(refused.words.starts_with("others can read the login") && refused.fault == Fault::Denied);
            assert!(!refused.to_string().contains("secret") && refused.help.contains("chmod 600"));
        }
        mode(0o600);
        assert_eq!(login(&path).unwrap(), ("reeds".to_owned(), "secret word".to_owned()));
        std::fs::write(&path, "reeds").unwrap();
        assert!(login(&path).is_err_and(|shut| shut.help.contains("second")));
        assert!(login(folder.path()).is_err());
    }

    #[test]
    fn opening_never_waits_and_says_what_is_wrong() {
        // A port that is bound and does not listen refuses.
        let taken = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
        let port = taken.local_addr().unwrap().port();
        let broker =
            Broker { host: "127.0.0.1".to_owned(), port, topics: "#".to_owned(), ..Broker::default() };
        let mut open = opener(broker);
        let first = open().err().unwrap();
        assert!(first.words.starts_with("connecting to the broker at 127.0.0.1:"), "{first}");
        let said =
            std::iter::repeat_with(|| open().err().unwrap()).find(|shut| shut.words != first.words).unwrap();
        assert_eq!(said.words, format!("cannot reach the broker at 127.0.0.1:{port}: connection refused"));
        assert!(said.help.contains("is it running"));
    }

    #[test]
    fn what_speaks_no_mqtt_is_no_broker() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        std::thread::spawn(move || {
            use std::io::Write;
            for mut stream in listener.incoming().flatten() {
                let _ = stream.write_all(b"HTTP/1.1 400 Bad Request\r\n\r\n");
            }
        });
        let broker =
            Broker { host: "localhost".to_owned(), port, topics: "#".to_owned(), ..Broker::default() };
        let mut open = opener(broker);
        let said = std::iter::repeat_with(|| open().err().unwrap())
            .find(|shut| !shut.words.starts_with("connecting"))
            .unwrap();
        assert!(said.words.contains("the broker at localhost"), "{said}");
    }
}
