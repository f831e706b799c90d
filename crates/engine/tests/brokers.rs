//! MQTT as a way in, over a real broker that is killed and started again, and one that wants a password.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use rumqttc::{Client, Event, LastWill, MqttOptions, Packet, QoS};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};
use wasvolta_core::link::Health;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Protocol, Rig};
use wasvolta_engine::{Engine, Setup, Snapshot, ways};
use wasvolta_port::{Fault, WallClock};

/// Nothing here takes longer; a machine that is busy is given it.
const PATIENCE: Duration = Duration::from_mins(1);

struct Broker(Child);

impl Broker {
    /// Starts one in a folder that holds its files, and waits until it takes connections.
    fn start(folder: &Path, port: u16, login: Option<(&str, &str)>) -> Self {
        let mut settings = format!("listener {port} 127.0.0.1\nallow_anonymous {}\n", login.is_none());
        if let Some((name, password)) = login {
            let file = folder.join("passwords");
            let made = Command::new("mosquitto_passwd")
                .args(["-b", "-c"])
                .arg(&file)
                .args([name, password])
                .status();
            assert!(made.is_ok_and(|status| status.success()), "mosquitto_passwd comes with the broker");
            // The broker gives up its rights, and must read it still.
            std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o644)).unwrap();
            std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o755)).unwrap();
            settings = format!("{settings}password_file {}\n", file.display());
        }
        let file = folder.join("broker.conf");
        std::fs::write(&file, settings).unwrap();
        let mut command = Command::new("mosquitto");
        let path = format!("{}:/usr/sbin:/usr/local/sbin", std::env::var("PATH").unwrap_or_default());
        command.env("PATH", path).arg("-c").arg(&file).stdout(Stdio::null()).stderr(Stdio::null());
        let child = command.spawn().expect("mosquitto is there: cargo xtask test installs it");
        until("the broker listens", || std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
        Self(child)
    }
}

impl Drop for Broker {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < PATIENCE, "{what} has not come");
        std::thread::park_timeout(Duration::from_millis(10));
    }
}

fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// A sender of the hut, which says when it is there and leaves a will for when it is not.
struct Hut(Client);

impl Hut {
    fn new(port: u16) -> Self {
        let mut options = MqttOptions::new("hut", "127.0.0.1", port);
        options.set_keep_alive(Duration::from_secs(5));
        options.set_last_will(LastWill::new("hut/up", "offline", QoS::AtLeastOnce, true));
        let (client, mut connection) = Client::new(options, 64);
        // It ends with its first failure: without a goodbye its will is said.
        std::thread::spawn(move || while connection.recv().is_ok_and(|event| event.is_ok()) {});
        Self(client)
    }

    fn say(&self, topic: &str, payload: &str, retain: bool) {
        self.0.publish(topic, QoS::AtLeastOnce, retain, payload).unwrap();
    }
}

/// Whether a broker has kept something that was said.
fn is_kept(port: u16, topic: &str) -> bool {
    let (client, mut connection) = Client::new(MqttOptions::new("asks", "127.0.0.1", port), 8);
    client.subscribe(topic, QoS::AtMostOnce).unwrap();
    let wait = || connection.recv_timeout(Duration::from_secs(1));
    let heard = std::iter::repeat_with(wait).take(8).find_map(|event| match event {
        Ok(Ok(Event::Incoming(Packet::Publish(message)))) => Some(message.retain),
        _ => None,
    });
    heard == Some(true)
}

fn rig(port: &str, login: Option<&Path>) -> Rig {
    let login = login.map_or_else(String::new, |path| format!("login_file = \"{}\"", path.display()));
    let input = |name: &str, topic: &str| {
        format!("[[input]]\nname = \"{name}\"\nlink = \"hut\"\nchannel = \"{topic}\"\nends = [0, 100]\n")
    };
    let text = format!(
        "format = 12\nname = \"hut\"\n[[port]]\nname = \"broker\"\nkind = \"mqtt\"\npath = \"{port}\"\n{login}\n\
         [[link]]\nname = \"hut\"\non = \"broker\"\nwill = \"hut/up\"\n{}{}",
        input("gap", "hut/gap#/cm"),
        input("bell", "hut/bell")
    );
    match load(&text) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

fn engine(rig: Rig) -> Engine {
    let opener = Box::new(ways::opener);
    let clock = Arc::new(WallClock::default());
    let setup = Setup { boards: Vec::new(), opener, clock, beat: Duration::from_millis(20), record: None };
    Engine::start(&Arc::new(rig), setup).unwrap()
}

fn health(snapshot: &Snapshot) -> Health {
    snapshot.links[0].health
}

fn raw(engine: &mut Engine, input: usize) -> Option<f64> {
    engine.snapshot().inputs[input].raw
}

#[test]
fn a_broker_that_is_killed_is_lost_and_comes_back_and_a_last_will_is_heard() {
    let folder = tempfile::tempdir().unwrap();
    let port = free_port();
    let broker = Broker::start(folder.path(), port, None);
    let hut = Hut::new(port);
    hut.say("hut/up", "online", true);
    hut.say("hut/bell", "7", true);
    until("the broker keeps it", || is_kept(port, "hut/bell"));
    let mut engine = engine(rig(&format!("127.0.0.1:{port}/hut/#"), None));
    until("the link is fresh", || health(engine.snapshot()) == Health::Fresh);
    // What the broker kept is seen, of an age that nobody knows, and moves nothing.
    let kept = |engine: &mut Engine| {
        let report = &engine.snapshot().reports[0];
        report.channels.iter().find(|state| state.newest == Some(7.0)).map(|state| state.is_old)
    };
    until("what was kept is seen", || kept(&mut engine) == Some(true));
    assert_eq!(raw(&mut engine, 1), None);
    hut.say("hut/gap", r#"{"cm": 41.5}"#, false);
    hut.say("hut/bell", "ON", false);
    until("both are heard", || raw(&mut engine, 0) == Some(41.5) && raw(&mut engine, 1) == Some(1.0));
    assert_eq!(kept(&mut engine), None);
    // What would do more on a screen than be seen names no channel.
    hut.say("hut/sly", "{\"\\u001b[31mred\": 1, \"\u{202e}live\": 2, \"fine\": 3}", false);
    let names = |engine: &mut Engine| -> Vec<String> {
        let channels = &engine.snapshot().reports[0].channels;
        channels.iter().map(|state| Protocol::Mqtt.name(&state.channel)).collect()
    };
    until("the rest is heard", || names(&mut engine).iter().any(|name| name == "hut/sly#/fine"));
    assert!(names(&mut engine).iter().all(|name| !name.contains(['\u{1b}', '\u{202e}'])));
    // Its sender goes without a word: its will says so.
    drop(broker);
    until("the link is lost", || health(engine.snapshot()) == Health::Lost);
    until("the reason is said", || {
        engine.link_trouble(0).is_some_and(|shut| shut.words.contains("connection refused"))
    });
    let broker = Broker::start(folder.path(), port, None);
    until("the link is fresh again", || health(engine.snapshot()) == Health::Fresh);
    let hut = Hut::new(port);
    hut.say("hut/up", "online", true);
    hut.say("hut/gap", r#"{"cm": 12}"#, false);
    until("it is heard again", || raw(&mut engine, 0) == Some(12.0));
    // The hut loses its current: nobody says goodbye for it.
    let gone = MqttOptions::new("hut", "127.0.0.1", port);
    let (thief, mut connection) = Client::new(gone, 8);
    until("another takes its name", || connection.recv().is_ok_and(|event| event.is_ok()));
    until("its will is heard", || health(engine.snapshot()) == Health::Lost);
    thief.publish("hut/up", QoS::AtLeastOnce, true, "online").unwrap();
    std::thread::spawn(move || while connection.recv().is_ok_and(|event| event.is_ok()) {});
    until("it is there again", || health(engine.snapshot()) == Health::Fresh);
    drop(broker);
}

#[test]
fn a_password_comes_from_a_file_that_nobody_else_reads() {
    let folder = tempfile::tempdir().unwrap();
    let port = free_port();
    let _broker = Broker::start(folder.path(), port, Some(("reeds", "wind and water")));
    let place = format!("127.0.0.1:{port}");
    let mut without = engine(rig(&place, None));
    let why = |engine: &Engine| engine.link_trouble(0).filter(|shut| !shut.words.starts_with("connecting"));
    until("it is refused", || why(&without).is_some());
    let refused = why(&without).unwrap();
    assert_eq!(refused.fault, Fault::Denied);
    assert!(
        refused.words.contains("name and a password") && refused.help.contains("login_file"),
        "{refused:?}"
    );
    assert_eq!(health(without.snapshot()), Health::Absent);

    let login = folder.path().join("login");
    std::fs::write(&login, "reeds\nwind and water\n").unwrap();
    let mode = |mode| std::fs::set_permissions(&login, std::fs::Permissions::from_mode(mode)).unwrap();
    mode(0o644);
    let open = engine(rig(&place, Some(&login)));
    until("it is not used", || why(&open).is_some_and(|shut| shut.words.starts_with("others can read")));
    mode(0o600);
    let mut with = engine(rig(&place, Some(&login)));
    until("it is let in", || health(with.snapshot()) == Health::Fresh);
}
