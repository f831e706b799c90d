//! Steps as a table of comma-separated values: a row a step, a column a joint, and one time a row, as a program has it that
//! tells its servos where to go and then sleeps.
//!
//! That time is the sum of move and dwell: the move gets what its joints need, and the rest they stand.

use super::edit::sequences::insert;
use super::edit::{Edited, keep_pose};
use super::table::BadTable;
use super::{Kind, Pose, Rig, Step};
use crate::easing::Easing;
use crate::range;
use crate::sequence::rounded_up;
use crate::stage::Plan;
use crate::unit::{Degrees, Seconds};

/// A row of a table.
#[derive(Debug, Clone, PartialEq)]
pub struct Row {
    /// How long it is, from one row to the next.
    pub time: Seconds,
    /// What it moves, by the names that poses use, and where to.
    pub targets: Vec<(Kind, String, Degrees)>,
}

/// Reads a table: a column `time_s`, and one for each joint in degrees or part with a level in percent. An empty cell moves
/// nothing.
///
/// # Errors
/// Says the line, and what is wrong in it.
pub fn read(rig: &Rig, text: &str) -> Result<Vec<Row>, BadTable> {
    let mut reader =
        csv::ReaderBuilder::new().trim(csv::Trim::All).comment(Some(b'#')).from_reader(text.as_bytes());
    let broken = |error: &csv::Error| BadTable::Line {
        line: error.position().map_or(1, csv::Position::line),
        why: match error.kind() {
            csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
                format!("{len} values, where the header has {expected_len}")
            }
            _ => "this is not comma-separated text".to_owned(),
        },
    };
    let head = reader.headers().map_err(|error| broken(&error))?.clone();
    let spoken: Vec<(Kind, &str)> =
        rig.servos.iter().filter_map(|servo| Some((servo.kind, rig.spoken_name(servo)?))).collect();
    let mut columns = Vec::new();
    for name in &head {
        let known = spoken.iter().find(|(_, own)| *own == name).copied();
        if known.is_none() && name != "time_s" {
            let names: Vec<&str> = spoken.iter().map(|(_, name)| *name).collect();
            let why = format!("no joint is called {name:?}; there are time_s and {}", names.join(", "));
            return Err(BadTable::Line { line: 1, why });
        }
        columns.push(known);
    }
    if !head.iter().any(|name| name == "time_s") {
        let why = "no column is called time_s: how long each row is, from one to the next".to_owned();
        return Err(BadTable::Line { line: 1, why });
    }
    let mut rows = Vec::new();
    for record in reader.records() {
        let record = record.map_err(|error| broken(&error))?;
        let line = record.position().map_or(1, csv::Position::line);
        let wrong = |why: String| BadTable::Line { line, why };
        let mut row = Row { time: Seconds::ZERO, targets: Vec::new() };
        for ((cell, name), column) in record.iter().zip(&head).zip(&columns) {
            if cell.is_empty() && column.is_some() {
                continue;
            }
            let value: f64 = cell.parse().map_err(|_| wrong(format!("{name} is {cell:?}, not a number")))?;
            let row_range = match column {
                None => &range::TIME,
                Some((kind, _)) => kind.levels().unwrap_or(&range::ANGLE),
            };
            row_range.check(value).map_err(|outside| wrong(format!("{name}: {outside}")))?;
            match column {
                None => row.time = Seconds::new(value),
                Some((kind, name)) => row.targets.push((*kind, (*name).to_owned(), Degrees::new(value))),
            }
        }
        if row.targets.is_empty() {
            return Err(wrong("nothing is moved in it".to_owned()));
        }
        rows.push(row);
    }
    if rows.is_empty() { Err(BadTable::Empty) } else { Ok(rows) }
}

/// Makes a sequence of such rows, with a pose for each that is new; rows that are the same share one.
///
/// # Errors
/// When the name is none, or is taken, or an angle is beyond a limit.
pub fn sequence(rig: &Rig, name: &str, rows: &[Row]) -> Edited {
    let mut out = super::edit::sequences::add_sequence(rig, name)?;
    let mut made: Vec<String> = Vec::new();
    for (n, row) in rows.iter().enumerate() {
        let same = made.iter().find(|pose| out.pose(pose).is_some_and(|pose| is(pose, row)));
        let pose = match same {
            Some(pose) => pose.clone(),
            None => {
                let pose = format!("{name}-{}", n + 1);
                out = keep_pose(&out, &pose, &row.targets)?;
                made.push(pose.clone());
                pose
            }
        };
        let step = Step { pose: Some(pose), easing: Easing::Linear, ..Step::default() };
        out = insert(&out, name, n, step)?;
    }
    // As fast as they can: what is left of each row's time they stand.
    let plan = Plan::of(&out);
    let place = out.sequences.iter().position(|own| own.name == name);
    let program = place.and_then(|place| plan.programs.get(place));
    super::edit::sequences::change_sequence(&out, name, |own| {
        for (n, (step, row)) in own.steps.iter_mut().zip(rows).enumerate() {
            let needs =
                program.and_then(|program| program.step(n)).map_or(0.0, |step| rounded_up(step.moves));
            let moves = libm::fmin(needs, row.time.get());
            step.move_s = Some(Seconds::new(moves));
            step.dwell_s = Seconds::new(libm::round((row.time.get() - moves) * 1e6) / 1e6);
        }
    })
}

/// Whether a pose is what a row says.
fn is(pose: &Pose, row: &Row) -> bool {
    pose.angles_deg.len() + pose.levels_percent.len() == row.targets.len()
        && row.targets.iter().all(|(kind, name, target)| {
            pose.target(*kind, name).is_some_and(|own| (own - *target).abs().get() < 5e-3)
        })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::small;

    const TABLE: &str = "time_s,heron.neck,heron.beak\n1.5,20,\n# held\n0.05,-30,20\n1.5,20,\n";

    #[test]
    fn one_time_a_row_is_the_sum_of_move_and_dwell() {
        let rig = small();
        let rows = read(&rig, TABLE).unwrap();
        assert_eq!((rows.len(), rows[0].targets.len(), rows[1].targets.len()), (3, 1, 2));
        let made = sequence(&rig, "nod", &rows).unwrap();
        let nod = &made.sequences[1];
        let times: Vec<(f64, f64)> =
            nod.steps.iter().map(|step| (step.move_s.unwrap().get(), step.dwell_s.get())).collect();
        // 20° at 400 °/s are 0.05 s; 50° would need 0.125 s and get all there is.
        assert_eq!(times, [(0.05, 1.45), (0.05, 0.0), (0.13, 1.37)]);
        for ((moves, dwells), row) in times.iter().zip(&rows) {
            assert!((moves + dwells - row.time.get()).abs() < 1e-9);
        }
        let poses: Vec<&str> = nod.steps.iter().filter_map(|step| step.pose.as_deref()).collect();
        assert_eq!(poses, ["nod-1", "nod-2", "nod-1"], "the same row is the same pose");
        assert_eq!(Plan::of(&made).programs[1].shorts().len(), 1, "and what is short is said to be");
    }

    #[test]
    fn what_cannot_be_read_is_named_with_its_line() {
        let rig = small();
        let said = |text: &str| read(&rig, text).unwrap_err().to_string();
        assert!(said("time_s,tail\n1,2\n").starts_with("line 1: no joint is called \"tail\""));
        assert!(said("heron.neck\n2\n").contains("no column is called time_s"));
        assert!(said("time_s,heron.neck\n1,2\nx,3\n").starts_with("line 3: time_s is \"x\", not a number"));
        assert!(said("time_s,heron.neck\n1,\n").contains("nothing is moved in it"));
        assert!(said("time_s,heron.neck\n-1,2\n").contains("outside 0 to 86400 s"));
        assert!(said("time_s,heron.neck\n").contains("it has no rows"));
        let beyond = read(&rig, "time_s,heron.neck\n1,50\n").unwrap();
        assert!(sequence(&rig, "nod", &beyond).unwrap_err().to_string().contains("beyond the high limit"));
    }
}
