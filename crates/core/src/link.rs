//! The health of a streaming link: absent, fresh, late, lost, stuck.
//!
//! Judges by when good frames came and whether their values changed; what to do about it is each mapping's
//! choice. Times only ever go forward.

use std::time::Duration;

/// What a link is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Health {
    /// Nothing has come yet; acts as lost.
    #[default]
    Absent,
    /// Frames come as usual.
    Fresh,
    /// More than three usual intervals without a frame.
    Late,
    /// Silent for too long, or the way to it is gone.
    Lost,
    /// Frames come, bit for bit the same for too long.
    Stuck,
}

impl Health {
    /// The word on the screen.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Absent => "absent",
            Self::Fresh => "fresh",
            Self::Late => "late",
            Self::Lost => "lost",
            Self::Stuck => "stuck",
        }
    }
}

/// When a link counts as lost, and what stuck means for it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Rules {
    /// Silence that counts as lost, unless five usual intervals are longer.
    pub lost_after: Duration,
    /// Whether a stuck link counts as lost.
    pub stuck_is_lost: bool,
}

// Times here are whole nanoseconds: this is asked for every input in every beat.
const SECOND: u64 = 1_000_000_000;
const WINDOW: u64 = 2 * SECOND;
const SLOTS: usize = 40;
const SLOT: u64 = WINDOW / SLOTS as u64;
const CHANGES_BEFORE_STUCK: u32 = 20;
const LEAST_STUCK: u64 = 4 * SECOND;
const FRAMES_TO_RETURN: u8 = 3;

/// Nanoseconds; five centuries fit.
const fn nanoseconds(time: Duration) -> u64 {
    time.as_secs().saturating_mul(SECOND).saturating_add(time.subsec_nanos() as u64)
}

/// What is remembered of a link's frames. Fixed in size.
#[derive(Debug, Clone, Default)]
pub struct Link {
    first: Option<u64>,
    last: u64,
    slots: Slots,
    usual: u64,
    /// The frames in a full window that `usual` was reckoned from.
    usual_of: u32,
    returning: u8,
    gone: bool,
    changes: u32,
    changed_at: u64,
    longest_same: u64,
}

/// Frames in the last two seconds, by twentieth of a second.
#[derive(Debug, Clone)]
struct Slots {
    frames: [u16; SLOTS],
    here: u64,
    all: u32,
}

impl Default for Slots {
    fn default() -> Self {
        Self { frames: [0; SLOTS], here: 0, all: 0 }
    }
}

impl Slots {
    /// Counts a frame at a time and forgets those that are too old; gives how many there are.
    fn count(&mut self, now: u64) -> u32 {
        let slot = now / SLOT;
        let passed = slot.saturating_sub(self.here).min(SLOTS as u64);
        for step in 0..passed {
            self.all -= u32::from(std::mem::take(self.at(slot - step)));
        }
        self.here = slot;
        let here = self.at(slot);
        let more = here.saturating_add(1);
        self.all += u32::from(more - std::mem::replace(here, more));
        self.all
    }

    const fn at(&mut self, slot: u64) -> &mut u16 {
        #[expect(clippy::cast_possible_truncation, reason = "below forty")]
        let place = (slot % SLOTS as u64) as usize;
        &mut self.frames[place]
    }
}

impl Link {
    /// A good frame came at `now`; `changed` says whether any value in it differs from the one before.
    #[inline]
    pub fn frame(&mut self, now: Duration, changed: bool, rules: &Rules) {
        let now = nanoseconds(now);
        if self.first.is_none() {
            self.first = Some(now);
            self.changed_at = now;
            self.returning = FRAMES_TO_RETURN;
        } else if self.gone || self.silent(now, rules) {
            self.returning = 0;
            self.changed_at = now;
        }
        self.gone = false;
        self.returning = self.returning.saturating_add(1).min(FRAMES_TO_RETURN);
        let frames = self.slots.count(now);
        let window = now.saturating_sub(self.first.unwrap_or(now)).clamp(SLOT, WINDOW);
        // A division that is the same from frame to frame: once the window is full only the count changes it.
        if window < WINDOW || frames != self.usual_of {
            self.usual = window / u64::from(frames.max(1));
            self.usual_of = if window < WINDOW { 0 } else { frames };
        }
        if changed {
            self.changes = self.changes.saturating_add(1);
            self.longest_same = self.longest_same.max(now.saturating_sub(self.changed_at));
            self.changed_at = now;
        }
        self.last = now;
    }

    /// The way to the sender is gone: a pulled plug, a closed port.
    pub const fn disconnect(&mut self) {
        self.gone = self.first.is_some();
    }

    /// The health at `now`.
    #[inline]
    pub fn health(&self, now: Duration, rules: &Rules) -> Health {
        let now = nanoseconds(now);
        if self.first.is_none() {
            return Health::Absent;
        }
        if self.gone || self.silent(now, rules) || self.returning < FRAMES_TO_RETURN {
            return Health::Lost;
        }
        let stuck_after = LEAST_STUCK.max(self.longest_same.saturating_mul(10));
        if self.changes >= CHANGES_BEFORE_STUCK && now.saturating_sub(self.changed_at) > stuck_after {
            return Health::Stuck;
        }
        if now.saturating_sub(self.last) > self.usual * 3 { Health::Late } else { Health::Fresh }
    }

    /// The age of the newest frame.
    #[inline]
    pub fn age(&self, now: Duration) -> Option<Duration> {
        self.first.map(|_| Duration::from_nanos(nanoseconds(now).saturating_sub(self.last)))
    }

    /// The usual interval between frames: two seconds over the frames in the last two seconds.
    pub const fn usual(&self) -> Duration {
        Duration::from_nanos(self.usual)
    }

    fn silent(&self, now: u64, rules: &Rules) -> bool {
        now.saturating_sub(self.last) > nanoseconds(rules.lost_after).max(self.usual * 5)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RULES: Rules = Rules { lost_after: Duration::from_millis(500), stuck_is_lost: false };
    const fn ms(n: u64) -> Duration {
        Duration::from_millis(n)
    }

    fn running(until: u64, every: u64) -> Link {
        let mut link = Link::default();
        for t in (0..=until).step_by(usize::try_from(every).unwrap()) {
            link.frame(ms(t), t < 2000, &RULES);
        }
        link
    }

    #[test]
    fn nothing_yet_is_absent_and_a_first_frame_is_fresh() {
        let mut link = Link::default();
        assert_eq!(link.health(ms(9000), &RULES), Health::Absent);
        link.frame(ms(9000), true, &RULES);
        assert_eq!(link.health(ms(9001), &RULES), Health::Fresh);
    }

    #[test]
    fn late_comes_after_three_usual_intervals_and_lost_after_half_a_second() {
        let link = running(3000, 20);
        assert!((link.usual().as_secs_f64() - 0.020).abs() < 0.001, "{:?}", link.usual());
        assert_eq!(link.health(ms(3055), &RULES), Health::Fresh);
        assert_eq!(link.health(ms(3070), &RULES), Health::Late);
        assert_eq!(link.health(ms(3499), &RULES), Health::Late);
        assert_eq!(link.health(ms(3501), &RULES), Health::Lost);
    }

    #[test]
    fn a_slow_link_is_given_five_of_its_own_intervals() {
        let link = running(6000, 200);
        assert_eq!(link.health(ms(6000 + 900), &RULES), Health::Late);
        assert_eq!(link.health(ms(6000 + 1100), &RULES), Health::Lost);
    }

    #[test]
    fn a_lost_link_is_fresh_again_after_three_good_frames() {
        let mut link = running(3000, 20);
        for (n, t) in [5000, 5020, 5040].into_iter().enumerate() {
            assert_eq!(link.health(ms(t), &RULES), Health::Lost, "before frame {n}");
            link.frame(ms(t), true, &RULES);
        }
        assert_eq!(link.health(ms(5041), &RULES), Health::Fresh);
    }

    #[test]
    fn a_pulled_plug_is_lost_at_once() {
        let mut link = running(3000, 20);
        link.disconnect();
        assert_eq!(link.health(ms(3001), &RULES), Health::Lost);
    }

    #[test]
    fn the_same_value_for_four_seconds_is_stuck_once_twenty_changes_were_seen() {
        let link = running(7000, 20);
        assert_eq!(link.health(ms(7000), &RULES), Health::Stuck);
        assert_eq!(running(5000, 20).health(ms(5000), &RULES), Health::Fresh);
        let mut still = Link::default();
        for t in (0..9000).step_by(20) {
            still.frame(ms(t), t < 100, &RULES);
        }
        assert_eq!(still.health(ms(8990), &RULES), Health::Fresh, "too few changes to judge by");
    }

    #[test]
    fn stuck_waits_ten_times_the_longest_stretch_so_far() {
        let mut link = Link::default();
        for t in (0..30_000u64).step_by(20) {
            link.frame(ms(t), t % 1000 == 0 && t <= 22_000, &RULES);
        }
        assert_eq!(link.health(ms(29_980), &RULES), Health::Fresh, "one second was usual");
        for t in (30_000..33_000u64).step_by(20) {
            link.frame(ms(t), false, &RULES);
        }
        assert_eq!(link.health(ms(32_990), &RULES), Health::Stuck);
    }
}
