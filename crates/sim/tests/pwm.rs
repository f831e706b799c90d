//! The driver of the kernel's PWM chips: the order of its writes, what it does when it is refused, and real files.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use std::sync::Arc;
use std::time::Duration;
use wasvolta_port::board::{BoardSettings, Decision, Driver, Found, Noted, Orders, Phase, Stay, Wanted};
use wasvolta_port::pwm::{self, Directory, Files, Pwm};
use wasvolta_port::{BusError, Clock, Fault};
use wasvolta_sim::faults::Kind;
use wasvolta_sim::pwm::PwmChip;
use wasvolta_sim::{Bench, ManualClock, Truth};

const FRAME: Duration = Duration::from_millis(20);
const SETTINGS: BoardSettings = BoardSettings::Pwm(pwm::PwmSettings { frame: FRAME });

struct Rig {
    clock: Arc<ManualClock>,
    bench: Bench,
    chip: PwmChip,
    files: Box<dyn Files>,
    driver: Pwm,
}

impl Rig {
    fn new() -> Self {
        let clock = Arc::new(ManualClock::default());
        let bench = Bench::new(&Truth::default(), 1, clock.clone());
        let chip = bench.pwm("pwm");
        let files: Box<dyn Files> = Box::new(chip.open().unwrap());
        Self { clock, bench, chip, files, driver: Pwm::of(&SETTINGS).unwrap() }
    }

    fn service(&mut self, wanted: &Wanted) -> Result<Noted, BusError> {
        let clock = Arc::clone(&self.clock);
        let done = self.driver.service(&mut self.files, clock.now(), &Orders::of(wanted.clone()), &*clock);
        self.clock.advance(FRAME);
        done
    }

    fn settle(&mut self, wanted: &Wanted) {
        for _ in 0..10 {
            self.service(wanted).unwrap();
        }
    }

    /// What was written since, as `file=text`.
    fn written(&self, from: usize) -> Vec<String> {
        self.chip.written()[from..].iter().map(|(file, text)| format!("{file}={text}")).collect()
    }
}

/// Pulses in 65536ths of a frame.
fn wanted(channels: &[(usize, f64)]) -> Wanted {
    let mut wanted = Wanted::NONE;
    for &(channel, us) in channels {
        let share = us / 20_000.0 * 65_536.0;
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share of a frame")]
        let ticks = share.round() as u16;
        wanted.set(channel, Some(ticks));
    }
    wanted
}

#[test]
fn a_channel_is_asked_for_set_and_switched_on_in_an_order_that_the_kernel_takes() {
    let mut rig = Rig::new();
    assert_eq!(rig.service(&wanted(&[(1, 1500.0)])).unwrap(), Noted::Started);
    assert_eq!(rig.written(0), [""; 0], "first it is read what runs");
    rig.service(&wanted(&[(1, 1500.0)])).unwrap();
    assert_eq!(
        rig.written(0),
        [
            "export=1",
            // Written once the system has given the files away.
            "pwm1/enable=0",
            "pwm1/enable=0",
            "pwm1/polarity=normal",
            "pwm1/period=20000000",
            "pwm1/duty_cycle=1499939",
            "pwm1/enable=1",
        ]
    );
    assert!((rig.chip.pulse_us(1).unwrap() - 1500.0).abs() < 0.2);
    let before = rig.chip.written().len();
    rig.service(&wanted(&[(1, 1600.0)])).unwrap();
    assert_eq!(rig.written(before), ["pwm1/duty_cycle=1600037"]);
    let before = rig.chip.written().len();
    let started = rig.clock.now();
    rig.service(&wanted(&[])).unwrap();
    assert_eq!(rig.written(before), ["pwm1/duty_cycle=0", "pwm1/enable=0"]);
    assert!(rig.clock.now().saturating_sub(started) >= FRAME * 2, "a frame is waited for in between");
    assert_eq!(rig.chip.pulse_us(1), None);
}

#[test]
fn a_shorter_frame_than_the_old_pulse_is_set_behind_it() {
    let mut rig = Rig::new();
    rig.files.write("export", "0").unwrap();
    rig.clock.advance(FRAME * 2);
    for (file, text) in [("pwm0/period", "100000000"), ("pwm0/duty_cycle", "50000000")] {
        rig.files.write(file, text).unwrap();
    }
    let before = rig.chip.written().len();
    rig.service(&wanted(&[])).unwrap();
    rig.service(&wanted(&[(0, 1500.0)])).unwrap();
    let order = rig.written(before);
    let at = |what: &str| order.iter().position(|line| line.starts_with(what)).unwrap();
    assert!(at("pwm0/duty_cycle") < at("pwm0/period"), "{order:?}");
    assert!((rig.chip.pulse_us(0).unwrap() - 1500.0).abs() < 0.2);
}

#[test]
fn first_pulses_come_one_after_another_and_all_end_released() {
    let mut rig = Rig::new();
    let two = wanted(&[(0, 1500.0), (2, 1200.0)]);
    rig.service(&two).unwrap();
    rig.service(&two).unwrap();
    assert!(rig.chip.pulse_us(0).is_some() && rig.chip.pulse_us(2).is_none());
    rig.settle(&two);
    assert!(rig.chip.pulse_us(2).is_some());
    let clock = Arc::clone(&rig.clock);
    rig.driver.release(&mut rig.files, &Stay::NONE, &*clock).unwrap();
    assert!(rig.chip.pulse_us(0).is_none() && rig.chip.pulse_us(2).is_none());
}

#[test]
fn a_channel_that_runs_already_is_asked_about_kept_or_released_and_read_back() {
    let left = || {
        let mut rig = Rig::new();
        rig.settle(&wanted(&[(1, 1500.0)]));
        // The program was killed: nobody released it.
        rig.driver = Pwm::of(&SETTINGS).unwrap();
        rig
    };
    for (decision, us) in [(Decision::Adopt, Some(1500.0)), (Decision::Release, None)] {
        let mut rig = left();
        let before = rig.chip.written().len();
        assert_eq!(rig.service(&wanted(&[])).unwrap(), Noted::Asks);
        let Phase::Asking(Found::Pulsing { ticks, adoptable: true }) = rig.driver.phase() else { panic!() };
        assert_eq!((ticks, rig.chip.written().len()), (wanted(&[(1, 1500.0)]), before));
        let clock = Arc::clone(&rig.clock);
        rig.driver.decide(decision, &mut rig.files, &*clock).unwrap();
        assert_eq!(rig.chip.pulse_us(1).map(f64::round), us);
        assert!(
            rig.driver.read_back(&mut rig.files, &ManualClock::default()).unwrap(),
            "a chip can always say"
        );
        assert_eq!(rig.driver.sent().get(1).is_some(), us.is_some());
        // Kept, it goes on without a gap, and is not asked for anew.
        rig.settle(&wanted(&[(1, 1600.0)]));
        assert!((rig.chip.pulse_us(1).unwrap() - 1600.0).abs() < 0.2);
    }
    let mut other = left();
    other.driver = Pwm::of(&BoardSettings::Pwm(pwm::PwmSettings { frame: FRAME / 2 })).unwrap();
    other.service(&wanted(&[])).unwrap();
    assert!(matches!(other.driver.phase(), Phase::Asking(Found::Pulsing { adoptable: false, .. })));
}

#[test]
fn a_chip_that_was_gone_and_kept_its_pulses_goes_on_from_them() {
    let mut rig = Rig::new();
    rig.settle(&wanted(&[(1, 1500.0)]));
    rig.bench.faults().set_everywhere(Kind::Absent, true);
    assert!(rig.service(&wanted(&[(1, 1700.0)])).is_err());
    rig.driver.lost();
    rig.bench.faults().set_everywhere(Kind::Absent, false);
    assert_eq!(rig.service(&wanted(&[(1, 1900.0)])).unwrap(), Noted::Resumed);
    assert_eq!(rig.driver.sent(), wanted(&[(1, 1500.0)]), "read back");
}

#[test]
fn what_the_kernel_refuses_is_told_apart() {
    for (kind, fault) in
        [(Kind::Held, Fault::Busy), (Kind::Denied, Fault::Denied), (Kind::NoBus, Fault::NoBus)]
    {
        let mut rig = Rig::new();
        rig.bench.faults().set_everywhere(kind, true);
        // Reading what runs may be allowed where writing is not.
        let first = rig.service(&wanted(&[(1, 1500.0)]));
        let refused = first.and_then(|_| rig.service(&wanted(&[(1, 1500.0)])));
        assert_eq!(refused.unwrap_err().fault, fault, "{kind:?}");
        rig.bench.faults().set_everywhere(kind, false);
        rig.driver.lost();
        rig.settle(&wanted(&[(1, 1500.0)]));
        assert!(rig.chip.pulse_us(1).is_some(), "{kind:?} is over");
    }
    // A channel that the chip does not have is left alone.
    let mut rig = Rig::new();
    rig.settle(&wanted(&[(9, 1500.0)]));
    assert!(rig.chip.written().is_empty());
}

#[test]
fn real_files_in_a_directory_are_found_by_the_devices_path_and_written_as_text() {
    let folder = std::env::temp_dir().join(format!("wasvolta-pwm-{}", std::process::id()));
    let chip = folder.join("pwm/pwmchip7");
    std::fs::create_dir_all(chip.join("pwm0")).unwrap();
    for (file, text) in
        [("npwm", "2\n"), ("export", ""), ("pwm0/enable", "0\n"), ("pwm0/polarity", "normal\n")]
    {
        std::fs::write(chip.join(file), text).unwrap();
    }
    for file in ["period", "duty_cycle"] {
        std::fs::write(chip.join("pwm0").join(file), "0\n").unwrap();
    }
    // By the device, by the folder of its chips, and by the chip itself.
    for path in [folder.clone(), folder.join("pwm"), chip.clone()] {
        let mut files: Box<dyn Files> = Box::new(Directory::open(&path).unwrap());
        let mut driver = Pwm::of(&SETTINGS).unwrap();
        std::fs::write(chip.join("pwm0/enable"), "0\n").unwrap();
        for _ in 0..2 {
            driver
                .service(
                    &mut files,
                    Duration::ZERO,
                    &Orders::of(wanted(&[(0, 1500.0)])),
                    &ManualClock::default(),
                )
                .unwrap();
        }
    }
    let text = |file: &str| std::fs::read_to_string(chip.join("pwm0").join(file)).unwrap();
    assert_eq!((text("period").as_str(), text("enable").trim()), ("20000000", "1"));
    assert!(text("duty_cycle").starts_with("1499939"), "{}", text("duty_cycle"));
    // By whichever path, only one program writes to it; reading is free.
    let mut first = Directory::open(&folder).unwrap();
    first.claim().unwrap();
    let mut second = Directory::open(&chip).unwrap();
    assert!(matches!(second.claim().unwrap_err().fault, Fault::Taken(_)) && second.read("npwm").is_ok());
    drop(first);
    second.claim().unwrap();
    drop(second);
    let missing = Directory::open(&folder.join("nothing")).unwrap_err();
    assert_eq!(missing.fault, Fault::NoBus);
    // Files that are not there are not made.
    let mut files = Directory::open(&chip).unwrap();
    assert!(files.write("pwm1/enable", "0").is_err() && !chip.join("pwm1").exists());
    std::fs::remove_dir_all(&folder).unwrap();
}
