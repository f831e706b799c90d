//! The health of a link: absent, fresh, late, lost, stuck.
//!
//! A streaming link sends by itself: silence means something, and so do frames that never change. An event link speaks
//! when something changes: it is fresh while it is connected. Judges by when good frames came and whether their values
//! changed; what to do about it is each mapping's choice. Times only ever go forward.

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
    /// Whether frames come, moving or not.
    pub const fn is_heard(self) -> bool {
        matches!(self, Self::Fresh | Self::Late | Self::Stuck)
    }

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

/// What is expected of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rules {
    /// It sends by itself.
    Streaming {
        /// Silence that counts as lost, unless five usual intervals are longer.
        lost_after: Duration,
        /// Whether a stuck link counts as lost.
        stuck_is_lost: bool,
    },
    /// It speaks when something changes.
    Event {
        /// Silence that counts as lost, if any does.
        heartbeat: Option<Duration>,
    },
}

impl Rules {
    /// Whether what comes over a link of that health may move anything.
    pub const fn may_move(self, health: Health) -> bool {
        match health {
            Health::Fresh | Health::Late => true,
            Health::Stuck => matches!(self, Self::Streaming { stuck_is_lost: false, .. }),
            Health::Absent | Health::Lost => false,
        }
    }
}

/// What became of the way to a sender since the last call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Way {
    /// Nothing has changed since the last call.
    #[default]
    Same,
    /// It is open now.
    Opened,
    /// It is gone: a pulled plug, a closed port, a last will.
    Gone,
}

/// What came over one link since the last call.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Heard {
    /// Good frames with channels, since the last one that said that the sender itself hears nothing.
    pub frames: u32,
    /// Whether any of their values differs from the one before it. Channels that tell of the link itself do not count.
    pub changed: bool,
    /// A receiver said that it does not hear its transmitter.
    pub failsafe: bool,
    /// What became of the way.
    pub way: Way,
}

// Times here are whole nanoseconds: this is asked for every input in every beat.
const SECOND: u64 = 1_000_000_000;
const WINDOW: u64 = 2 * SECOND;
const SLOTS: usize = 40;
const SLOT: u64 = WINDOW / SLOTS as u64;
const CHANGES_BEFORE_STUCK: u32 = 20;
const LEAST_STUCK: u64 = 4 * SECOND;
const STUCK_BY: u64 = 10;
const FRAMES_TO_RETURN: u8 = 3;
/// The most frames that are counted in one turn.
const MOST_FRAMES: u32 = 10_000;

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
    /// The frames in a full window that `usual` was computed from.
    usual_of: u32,
    returning: u8,
    gone: bool,
    /// The receiver's last word was that it hears nothing itself.
    failsafe: bool,
    /// When the way was opened last; none while it is not.
    opened: Option<u64>,
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
    /// Takes what came until `now`.
    #[inline]
    pub fn hear(&mut self, now: Duration, heard: &Heard, rules: &Rules) {
        match heard.way {
            Way::Same => {}
            Way::Opened => self.opened = Some(nanoseconds(now)),
            Way::Gone => {
                self.gone = self.first.is_some() || self.opened.is_some();
                self.opened = None;
            }
        }
        if heard.failsafe {
            self.failsafe = self.first.is_some() || self.opened.is_some();
        }
        // A turn has a few; a recording may claim any number.
        for n in 0..heard.frames.min(MOST_FRAMES) {
            self.frame(nanoseconds(now), heard.changed && n == 0, rules);
        }
    }

    /// A good frame came at `now`; `changed` says whether any value in it differs from the one before.
    #[inline]
    fn frame(&mut self, now: u64, changed: bool, rules: &Rules) {
        if self.first.is_none() {
            self.first = Some(now);
            self.changed_at = now;
            self.returning = FRAMES_TO_RETURN;
        } else if self.gone || self.failsafe || self.silent(now, rules) {
            // Neither silence nor a stretch that is called stuck is how this link usually stands still.
            self.returning = 0;
            self.changed_at = now;
        }
        (self.gone, self.failsafe) = (false, false);
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
            if !self.is_stuck(now) {
                self.longest_same = self.longest_same.max(now.saturating_sub(self.changed_at));
            }
            self.changed_at = now;
        }
        self.last = now;
    }

    /// The health at `now`.
    #[inline]
    pub fn health(&self, now: Duration, rules: &Rules) -> Health {
        let now = nanoseconds(now);
        match rules {
            Rules::Streaming { .. } => self.streaming(now, rules),
            Rules::Event { heartbeat } => match self.opened {
                None if self.gone => Health::Lost,
                None => Health::Absent,
                // The sender's last will.
                Some(_) if self.failsafe => Health::Lost,
                Some(opened) => {
                    let heard = opened.max(if self.first.is_some() { self.last } else { 0 });
                    let silent = heartbeat.is_some_and(|most| now.saturating_sub(heard) > nanoseconds(most));
                    if silent { Health::Lost } else { Health::Fresh }
                }
            },
        }
    }

    fn streaming(&self, now: u64, rules: &Rules) -> Health {
        if self.first.is_none() {
            return Health::Absent;
        }
        if self.gone || self.failsafe || self.silent(now, rules) || self.returning < FRAMES_TO_RETURN {
            return Health::Lost;
        }
        if self.is_stuck(now) {
            return Health::Stuck;
        }
        if now.saturating_sub(self.last) > self.usual * 3 { Health::Late } else { Health::Fresh }
    }

    /// Whether it has been the very same for longer than it ever was, by far.
    const fn is_stuck(&self, now: u64) -> bool {
        let most = self.longest_same.saturating_mul(STUCK_BY);
        let most = if most < LEAST_STUCK { LEAST_STUCK } else { most };
        self.changes >= CHANGES_BEFORE_STUCK && now.saturating_sub(self.changed_at) > most
    }

    /// The age of the newest frame.
    #[inline]
    pub fn age(&self, now: Duration) -> Option<Duration> {
        self.first.map(|_| Duration::from_nanos(nanoseconds(now).saturating_sub(self.last)))
    }

    /// Whether enough frames have come lately to say how often they do.
    pub const fn has_rate(&self) -> bool {
        self.slots.all >= 3
    }

    /// The usual interval between frames: two seconds over the frames in the last two seconds.
    pub const fn usual(&self) -> Duration {
        Duration::from_nanos(self.usual)
    }

    fn silent(&self, now: u64, rules: &Rules) -> bool {
        match rules {
            Rules::Streaming { lost_after, .. } => {
                now.saturating_sub(self.last) > nanoseconds(*lost_after).max(self.usual * 5)
            }
            Rules::Event { .. } => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RULES: Rules = Rules::Streaming { lost_after: Duration::from_millis(500), stuck_is_lost: false };
    const fn ms(n: u64) -> Duration {
        Duration::from_millis(n)
    }

    impl Link {
        fn came(&mut self, at: Duration, changed: bool) {
            self.hear(at, &Heard { frames: 1, changed, ..Heard::default() }, &RULES);
        }

        fn way(&mut self, at: Duration, way: Way, rules: &Rules) {
            self.hear(at, &Heard { way, ..Heard::default() }, rules);
        }
    }

    fn running(until: u64, every: u64) -> Link {
        let mut link = Link::default();
        for t in (0..=until).step_by(usize::try_from(every).unwrap()) {
            link.came(ms(t), t < 2000);
        }
        link
    }

    #[test]
    fn nothing_yet_is_absent_and_a_first_frame_is_fresh() {
        let mut link = Link::default();
        assert_eq!(link.health(ms(9000), &RULES), Health::Absent);
        link.came(ms(9000), true);
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
            link.came(ms(t), true);
        }
        assert_eq!(link.health(ms(5041), &RULES), Health::Fresh);
    }

    #[test]
    fn a_pulled_plug_is_lost_at_once() {
        let mut link = running(3000, 20);
        link.way(ms(3000), Way::Gone, &RULES);
        assert_eq!(link.health(ms(3001), &RULES), Health::Lost);
    }

    #[test]
    fn the_same_value_for_four_seconds_is_stuck_once_twenty_changes_were_seen() {
        let link = running(7000, 20);
        assert_eq!(link.health(ms(7000), &RULES), Health::Stuck);
        assert_eq!(running(5000, 20).health(ms(5000), &RULES), Health::Fresh);
        let mut still = Link::default();
        for t in (0..9000).step_by(20) {
            still.came(ms(t), t < 100);
        }
        assert_eq!(still.health(ms(8990), &RULES), Health::Fresh, "too few changes to judge by");
    }

    #[test]
    fn stuck_waits_ten_times_the_longest_stretch_so_far() {
        let mut link = Link::default();
        for t in (0..30_000u64).step_by(20) {
            link.came(ms(t), t % 1000 == 0 && t <= 22_000);
        }
        assert_eq!(link.health(ms(29_980), &RULES), Health::Fresh, "one second was usual");
        for t in (30_000..33_000u64).step_by(20) {
            link.came(ms(t), false);
        }
        assert_eq!(link.health(ms(32_990), &RULES), Health::Stuck);
    }

    #[test]
    fn a_stretch_that_was_called_stuck_does_not_make_the_next_one_longer() {
        // A transmitter goes off behind a receiver that repeats its last frame, and comes back, twice.
        let mut link = Link::default();
        let mut changed_last = [0; 2];
        let mut stuck_at = [0; 2];
        for t in (0..60_000u64).step_by(7) {
            let (round, at) = (usize::from(t >= 30_000), t % 30_000);
            // Its stick is moved, with rests of 0.35 s, for 10 s.
            let moves = at < 10_000 && at % 1000 > 350;
            link.came(ms(t), moves);
            if moves {
                changed_last[round] = t;
            }
            if at > 10_000 && link.health(ms(t), &RULES) == Health::Stuck && stuck_at[round] == 0 {
                stuck_at[round] = t;
            }
        }
        for (last, stuck) in changed_last.into_iter().zip(stuck_at) {
            assert!((4000..4500).contains(&(stuck - last)), "{last} {stuck}");
        }
        assert!(changed_last[1] < stuck_at[1] && stuck_at[0] < 30_000);
    }

    #[test]
    fn silence_is_no_standing_still() {
        let mut link = running(2000, 20);
        link.came(ms(2020), true);
        // Nothing for 20 s, then it goes on, moving and then the very same for 4 s.
        for t in (23_000..24_000).step_by(20) {
            link.came(ms(t), true);
        }
        for t in (24_000..28_100).step_by(20) {
            link.came(ms(t), false);
        }
        assert_eq!(link.health(ms(28_100), &RULES), Health::Stuck);
    }

    #[test]
    fn a_receivers_own_failsafe_is_lost_at_once_and_until_three_good_frames() {
        let mut link = running(3000, 7);
        let flagged = Heard { failsafe: true, ..Heard::default() };
        link.hear(ms(3007), &flagged, &RULES);
        assert_eq!(link.health(ms(3007), &RULES), Health::Lost);
        for t in [3014, 3021] {
            link.came(ms(t), true);
            assert_eq!(link.health(ms(t), &RULES), Health::Lost);
        }
        // A frame with the flag, and one behind it without, in one turn.
        link.hear(ms(3028), &Heard { frames: 1, ..flagged }, &RULES);
        assert_eq!(link.health(ms(3028), &RULES), Health::Lost);
        link.came(ms(3035), true);
        link.came(ms(3042), true);
        assert_eq!(link.health(ms(3042), &RULES), Health::Fresh);
    }

    #[test]
    fn an_event_link_is_fresh_while_it_is_connected_and_never_stuck() {
        let rules = Rules::Event { heartbeat: None };
        let mut link = Link::default();
        assert_eq!(link.health(ms(0), &rules), Health::Absent);
        link.way(ms(10), Way::Opened, &rules);
        assert_eq!(link.health(ms(900_000), &rules), Health::Fresh, "nobody has touched it");
        for t in 0..100 {
            link.hear(ms(900_000 + t), &Heard { frames: 1, changed: true, ..Heard::default() }, &rules);
        }
        assert_eq!(link.health(ms(2_000_000), &rules), Health::Fresh);
        link.way(ms(2_000_010), Way::Gone, &rules);
        assert_eq!(link.health(ms(2_000_010), &rules), Health::Lost);
        link.way(ms(2_000_020), Way::Opened, &rules);
        assert_eq!(link.health(ms(2_000_020), &rules), Health::Fresh, "it need say nothing");
    }

    #[test]
    fn an_event_link_with_a_heartbeat_is_lost_without_it() {
        let rules = Rules::Event { heartbeat: Some(ms(2000)) };
        let mut link = Link::default();
        link.way(ms(1000), Way::Opened, &rules);
        assert_eq!(link.health(ms(3000), &rules), Health::Fresh);
        assert_eq!(link.health(ms(3001), &rules), Health::Lost);
        link.hear(ms(3500), &Heard { frames: 1, ..Heard::default() }, &rules);
        assert_eq!(link.health(ms(5500), &rules), Health::Fresh);
        assert_eq!(link.health(ms(5501), &rules), Health::Lost);
    }

    #[test]
    fn what_may_move_a_joint_is_what_is_heard_and_not_called_lost() {
        let strict = Rules::Streaming { lost_after: ms(500), stuck_is_lost: true };
        let may = |rules: Rules| {
            [Health::Absent, Health::Fresh, Health::Late, Health::Lost, Health::Stuck]
                .map(|h| rules.may_move(h))
        };
        assert_eq!(may(RULES), [false, true, true, false, true]);
        assert_eq!(may(strict), [false, true, true, false, false]);
    }
}
