//! Dealing a servo to practise on: a small rig with one unknown servo, on simulated hardware.

use crate::{files, recovery};
use miette::IntoDiagnostic;
use std::path::PathBuf;
use std::time::{SystemTime, UNIX_EPOCH};
use wasvolta_core::rig::FORMAT;
use wasvolta_sim::practice::Deal;

/// The name of the dealt servo, and of its joint.
const SERVO: &str = "heron.wing";

/// A deal by its number, or by the clock where none is said.
pub fn deal(number: Option<u32>) -> Deal {
    let by_clock = || {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        now.subsec_micros() % (Deal::MOST + 1)
    };
    Deal::of(number.unwrap_or_else(by_clock))
}

/// The rig file of a deal, with what it really is beside it: both are written anew, for a deal begins from the beginning.
///
/// # Errors
/// When another program has that deal open, or the data folder cannot be written.
pub fn prepare(deal: &Deal) -> miette::Result<PathBuf> {
    let files::Folders { data: folder, state, .. } = files::folders()?;
    let path = folder.join(format!("practice-{}.rig.toml", deal.number));
    recovery::forget(&state, &path).into_diagnostic()?;
    for (path, text) in [(&path, rig(deal)), (&crate::hardware::truth_path(&path), deal.bench())] {
        files::write(path, &text).map_err(|error| miette::Report::msg(error.to_string()))?;
    }
    Ok(path)
}

/// The rig of a deal: what its label says, and nothing of what it is.
pub fn rig(deal: &Deal) -> String {
    let (number, class) = (deal.number, deal.class);
    let rated = class.rated.as_ref().map_or_else(String::new, |rated| {
        let over = rated.over();
        format!(
            "rated = {{ travel_deg = {}, pulses_us = [{}, {}] }}\n",
            rated.travel_deg.get(),
            over.low.get(),
            over.high.get()
        )
    });
    let (bus, address, channel) = (Deal::BUS, Deal::ADDRESS, Deal::CHANNEL);
    format!(
        "# A servo from the box, to practise on. Its label says {name}; what it really is, only the simulation knows.\n\
         format = {FORMAT}\nname = \"Practice {number}\"\n\n\
         [[port]]\nname = \"{bus}\"\nkind = \"i2c\"\npath = \"sim:{bus}\"\n\n\
         [[board]]\nname = \"upper\"\nport = \"{bus}\"\nchip = \"pwm-expander\"\naddress = {address}\n\n\
         [[servo]]\nname = \"{SERVO}\"\nboard = \"upper\"\nchannel = {channel}\nteeth = {teeth}\n{rated}\n\
         [[joint]]\nname = \"{SERVO}\"\nservo = \"{SERVO}\"\n",
        name = class.name,
        teeth = class.teeth,
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_core::rig::file::{Loaded, load};

    #[test]
    fn every_deal_is_a_sound_rig_that_tells_nothing_of_the_truth() {
        for number in 0..200 {
            let deal = Deal::of(number);
            let text = rig(&deal);
            let Loaded::Sound(source) = load(&text) else { panic!("{text}") };
            let rated = source.servos[0].rated.clone().unwrap();
            assert_eq!(Some(rated.slope()), deal.class.rated.as_ref().map(wasvolta_core::rig::Rated::slope));
            assert!(source.servos[0].marks.is_empty());
        }
        assert_eq!(deal(Some(7)), Deal::of(7));
        assert!(deal(None).number <= Deal::MOST);
    }
}
