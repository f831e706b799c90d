//! The display list: what is on a sheet, in millimetres from its upper left corner, y downwards.
//!
//! Every drawing ends as lines and texts here; a circle is a closed line of many corners.

use wasvolta_core::outside;

/// A place on the sheet in mm.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Point {
    /// From the left edge.
    pub x: f64,
    /// From the upper edge, downwards.
    pub y: f64,
}

/// A point, in millimetres to the right of the left edge and below the upper one.
pub const fn at(x: f64, y: f64) -> Point {
    Point { x, y }
}

impl Point {
    /// The place `length` mm from here, `angle` degrees clockwise from upwards.
    #[must_use]
    pub fn towards(self, angle: f64, length: f64) -> Self {
        let (sin, cos) = libm::sincos(angle.to_radians());
        at(self.x + length * sin, self.y - length * cos)
    }
}

/// Colours on paper, one meaning each; all but [`Tone::Rule`] and [`Tone::Band`] have 4.5:1 on white.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tone {
    /// What is there.
    Ink,
    /// What may be overlooked.
    Quiet,
    /// Scales and rules, in a thin grey.
    Rule,
    /// What is uncertain.
    Band,
    /// Limits and what is wrong, in the colour of faults.
    Limit,
    /// The paper itself.
    Paper,
}

impl Tone {
    /// Red, green, blue.
    pub const fn rgb(self) -> (u8, u8, u8) {
        match self {
            Self::Ink => (0x1b, 0x22, 0x27),
            Self::Quiet => (0x5a, 0x67, 0x6d),
            Self::Rule => (0xc3, 0xcb, 0xcf),
            Self::Band => (0xe4, 0xe9, 0xec),
            Self::Limit => (0xb5, 0x35, 0x2a),
            Self::Paper => (0xff, 0xff, 0xff),
        }
    }
}

/// How a line is drawn.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stroke {
    /// What it is drawn for; a writer makes a colour of it.
    pub tone: Tone,
    /// Its width in mm.
    pub width: f64,
    /// Lengths of dash and gap in mm, if it is dashed.
    pub dash: Option<(f64, f64)>,
}

/// A whole line.
pub const fn solid(tone: Tone, width: f64) -> Stroke {
    Stroke { tone, width, dash: None }
}

/// A dashed line.
pub const fn dashed(tone: Tone, width: f64, dash: f64, gap: f64) -> Stroke {
    Stroke { tone, width, dash: Some((dash, gap)) }
}

/// Which part of a text stands at its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Align {
    /// The text begins at the point.
    Left,
    /// The text is centred on the point.
    Middle,
    /// The text ends at the point.
    Right,
}

/// One thing on a sheet.
#[derive(Debug, Clone, PartialEq)]
pub enum Shape {
    /// A line through points, open or closed, stroked, filled or both.
    Line {
        /// The corners in order, in millimetres.
        points: Vec<Point>,
        /// Back to the first corner.
        closed: bool,
        /// How its edge is drawn; none for no edge.
        stroke: Option<Stroke>,
        /// What it is filled with; none for nothing.
        fill: Option<Tone>,
    },
    /// A text on one line.
    Text {
        /// Where its baseline is.
        at: Point,
        /// Its size: the height of the em in mm.
        size: f64,
        /// What it is drawn for; a writer makes a colour of it.
        tone: Tone,
        /// What stands at its place: always its beginning in a finished list.
        words: String,
    },
}

/// What stands on a sheet, in the order in which it is drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct List {
    /// Its title, for the file's own data.
    pub title: String,
    /// Width and height in mm, of a page.
    pub size: (f64, f64),
    /// How many pages it has: each stands below the one before.
    pub pages: usize,
    /// What is on it, from the ground up.
    pub shapes: Vec<Shape>,
}

impl List {
    /// An empty sheet.
    pub fn new(title: &str, size: (f64, f64)) -> Self {
        Self { title: outside::line(title).into_owned(), size, pages: 1, shapes: Vec::new() }
    }

    /// An open line.
    pub fn line(&mut self, points: &[Point], stroke: Stroke) {
        let points = points.to_vec();
        self.shapes.push(Shape::Line { points, closed: false, stroke: Some(stroke), fill: None });
    }

    /// A closed form.
    pub fn form(&mut self, points: Vec<Point>, stroke: Option<Stroke>, fill: Option<Tone>) {
        self.shapes.push(Shape::Line { points, closed: true, stroke, fill });
    }

    /// Draws a circle about a point, its radius in millimetres.
    pub fn circle(&mut self, centre: Point, radius: f64, stroke: Option<Stroke>, fill: Option<Tone>) {
        let corners = (0..120).map(|n| centre.towards(f64::from(n) * 3.0, radius)).collect();
        self.form(corners, stroke, fill);
    }

    /// Writes a line of text at a point, its size in millimetres.
    pub fn text(&mut self, at: Point, size: f64, tone: Tone, align: Align, words: &str) {
        // The border: what stands on paper does nothing but be read.
        let words = outside::line(words);
        let wide = crate::font::width(&words, size);
        let x = match align {
            Align::Left => at.x,
            Align::Middle => at.x - wide / 2.0,
            Align::Right => at.x - wide,
        };
        self.shapes.push(Shape::Text { at: Point { x, ..at }, size, tone, words: words.into_owned() });
    }

    /// A text broken between words at `wide` mm; gives the baseline behind it.
    pub fn paragraph(&mut self, at: Point, size: f64, tone: Tone, wide: f64, words: &str) -> f64 {
        let mut y = at.y;
        for line in crate::font::wrap(words, size, wide) {
            self.text(Point { y, ..at }, size, tone, Align::Left, &line);
            y += size * 1.35;
        }
        y
    }
}

/// The corners of an arc around a centre, from one angle to another, in steps of at most 1°.
pub fn arc(centre: Point, radius: f64, from: f64, to: f64) -> Vec<Point> {
    let steps = (to - from).abs().ceil().max(1.0);
    let count = wasvolta_core::unit::count16(steps);
    (0..=count).map(|n| centre.towards(from + (to - from) * f64::from(n) / steps, radius)).collect()
}
