//! A simulated bus of smart servos on a pty.

use super::link::Link;
use crate::cli::Sim;
use crate::exit::Exit;
use crate::files::BadFile;
use crate::files::input::{self, What};
use crate::{layouts, say};
use miette::{IntoDiagnostic, WrapErr, miette};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;
use wasvolta_core::range;
use wasvolta_engine::chips::map_of;
use wasvolta_port::WallClock;
use wasvolta_sim::faults::Struck;
use wasvolta_sim::{Bench, SmartBus, Truth, pty, serve};

/// What the line is called on the bench.
const LINE: &str = "bus";

/// Runs until a signal ends it.
///
/// # Errors
/// When the system gives no pty, the link cannot be made, or layout and form do not fit.
pub fn run(wanted: &Sim, stop: &AtomicBool) -> miette::Result<ExitCode> {
    let usual = if wanted.form == Some(1) { "ten-bit" } else { "twelve-bit" };
    let layout = layouts::said(wanted.layout.as_deref().unwrap_or(usual))?;
    if let Some(form) = wanted.form.filter(|form| *form != layout.form) {
        return Err(miette!("{} speaks form {}, not {form}: leave --form out", layout.name, layout.form));
    }
    let bench = Bench::new(&Truth::default(), wanted.bench.seed, Arc::new(WallClock::default()));
    for fault in &wanted.bench.faults {
        bench.faults().set(*fault, true);
    }
    let bus = bench.smart(LINE, &map_of(&layout));
    let ids: Vec<u8> = match wanted.ids.as_slice() {
        [] => vec![1, 2, 3],
        said => said.iter().flat_map(Clone::clone).collect(),
    };
    for id in &ids {
        bus.ensure(*id, None);
    }
    let (far, near) = pty::pair().into_diagnostic().wrap_err("the system gives no pty")?;
    let link = wanted.link.as_deref().map(|link| Link::make(link, &near)).transpose()?;
    let shown = link.as_ref().map_or(near.as_path(), |link| link.path);
    let listed: Vec<String> = ids.iter().map(ToString::to_string).collect();
    say::line(format_args!(
        "a simulated bus of smart servos, {}, with id {} listens at {} at 1000000 Bd; `hand 1 700` moves one that is \
         limp, `twins@id1` puts something wrong or right again; Ctrl-C ends it",
        layout.name,
        listed.join(", "),
        shown.display()
    ));
    let script = wanted.script.as_deref().map(|path| {
        input::text(path, What::Script)
            .map_err(|why| BadFile::Unreadable { path: path.display().to_string(), why })
    });
    let script = script.transpose()?;
    let (bench_here, moved) = (bench.clone(), bus.clone());
    std::thread::spawn(move || {
        let follow = |order: &str| {
            if let Err(why) = obey(&bench_here, &moved, order) {
                say::trouble(format_args!("{why}"));
            }
        };
        match script {
            Some(text) => text.lines().for_each(follow),
            None => std::io::stdin().lines().map_while(Result::ok).for_each(|order| follow(&order)),
        }
    });
    serve::smart(&bus, &far, stop);
    drop(link);
    Ok(Exit::Done.into())
}

/// Carries out one line.
///
/// # Errors
/// Says what is understood.
fn obey(bench: &Bench, bus: &SmartBus, order: &str) -> Result<(), String> {
    let words: Vec<&str> = order.split_whitespace().collect();
    match words.as_slice() {
        [] => {}
        [comment, ..] if comment.starts_with('#') => {}
        ["wait", time] => {
            let seconds: f64 = time.parse().map_err(|_| format!("{time:?} is not a number"))?;
            range::TIME.check(seconds).map_err(|why| why.to_string())?;
            std::thread::sleep(Duration::from_secs_f64(seconds));
        }
        ["hand", id, to] => {
            let id: u8 = id.parse().map_err(|_| format!("{id:?} is not an id"))?;
            let to: f64 = to.parse().map_err(|_| format!("{to:?} is not a position in counts"))?;
            range::RAW.check(to).map_err(|why| why.to_string())?;
            if bus.place(id).is_none() {
                return Err(format!("no servo has the id {id}"));
            }
            bus.move_by_hand(id, to);
        }
        [fault] => {
            let fault: Struck = fault.parse().map_err(|_| {
                format!("{fault:?} is not understood: `hand 1 700`, `wait 2`, or a fault as `twins@id1`")
            })?;
            let on = !bench.faults().on().contains(&fault);
            bench.faults().set(fault, on);
        }
        _ => {
            return Err(format!(
                "{order:?} is not understood: `hand 1 700`, `wait 2`, or a fault as `twins@id1`"
            ));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limp_servo_is_moved_by_hand_and_a_fault_comes_and_goes() {
        let bench = Bench::new(&Truth::default(), 1, Arc::new(WallClock::default()));
        let bus = bench.smart(LINE, &map_of(&layouts::said("ten-bit").unwrap()));
        bus.ensure(4, None);
        for order in ["# left", "", "hand 4 600", "silent@id4"] {
            assert_eq!(obey(&bench, &bus, order), Ok(()), "{order}");
        }
        assert!((bus.place(4).unwrap() - 600.0).abs() < 1.0);
        assert_eq!(bench.faults().on().len(), 1);
        obey(&bench, &bus, "silent@id4").unwrap();
        assert!(bench.faults().on().is_empty());
        for (order, words) in [
            ("hand 5 1", "no servo has the id 5"),
            ("hand 4 x", "not a position"),
            ("jump", "not understood"),
            ("a b c", "not understood"),
        ] {
            let why = obey(&bench, &bus, order).unwrap_err();
            assert!(why.contains(words), "{order}: {why}");
        }
    }
}
