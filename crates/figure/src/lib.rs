//! Figures: axes, lines, points, bars and cells as SVG, and that as PNG. Series are named beside their
//! ends rather than in a legend.

#![cfg_attr(test, allow(clippy::disallowed_methods))]

mod draw;
#[cfg(feature = "png")]
mod picture;
mod scale;

pub use draw::escape;
#[cfg(feature = "png")]
pub use picture::png;
pub use scale::{nice_ticks, number};

/// Why a figure could not be made a picture.
#[derive(Debug, thiserror::Error)]
#[error("the figure cannot be made a PNG: {0}")]
pub struct PictureError(pub String);

/// No picture can be made.
#[cfg(not(feature = "png"))]
pub fn png(_svg: &str, _scale: f32) -> Result<Vec<u8>, PictureError> {
    Err(PictureError("this Textum was built without it: build it with `--features png`, or write an SVG".to_string()))
}

/// Colours of series, told apart also in print and by most of the colour-blind.
pub const COLORS: [&str; 8] = ["#0b6e8f", "#c2571a", "#6a4c93", "#3a7d44", "#a83279", "#8a6d00", "#50607a", "#b3261e"];
/// Of what stands behind.
pub const GREY: &str = "#b9bdc4";

/// How values lie along an axis.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Scale {
    /// Evenly.
    #[default]
    Even,
    /// Evenly, and nothing is written at the axis.
    Bare,
    /// By their logarithm; only positive values can be drawn.
    Log,
    /// Names, the first at 0, each a step of 1 further.
    Names(Vec<String>),
}

/// An axis.
#[derive(Clone, Debug, Default)]
pub struct Axis {
    /// What it measures.
    pub label: String,
    /// How.
    pub scale: Scale,
    /// From where to where; found from the marks when left out.
    pub range: Option<(f64, f64)>,
}

impl Axis {
    /// An even axis.
    pub fn even(label: &str) -> Axis {
        Axis { label: label.to_string(), ..Axis::default() }
    }

    /// With this range.
    pub fn within(self, from: f64, to: f64) -> Axis {
        Axis { range: Some((from, to)), ..self }
    }
}

/// Something drawn between the axes.
#[derive(Clone, Debug)]
pub enum Mark {
    /// Points joined by a line. Where a value is not finite it is interrupted.
    Line {
        /// The points.
        points: Vec<(f64, f64)>,
        /// What is written beside its end.
        name: Option<String>,
        /// Its colour.
        color: String,
        /// Whether it is dashed.
        dashed: bool,
    },
    /// Points by themselves, each with the text that shows when it is pointed at.
    Points {
        /// The points.
        points: Vec<(f64, f64, String)>,
        /// Their colour.
        color: String,
        /// Their radius.
        radius: f64,
    },
    /// Bars from zero upwards, from one x to another.
    Bars {
        /// From, to, height.
        bars: Vec<(f64, f64, f64)>,
        /// Their colour.
        color: String,
    },
    /// Rectangles of a grid, each with its text; the shade goes from 0 to 1.
    Cells {
        /// Column, row, shade, text.
        cells: Vec<(f64, f64, f64, String)>,
    },
    /// A text.
    Text {
        /// Where.
        at: (f64, f64),
        /// The text.
        text: String,
        /// Whether it stands at the right of its place, over whatever is there; else its middle is at the place.
        beside: bool,
    },
    /// A star with a text beside it.
    Star {
        /// Where.
        at: (f64, f64),
        /// The text.
        text: String,
        /// Its colour.
        color: String,
    },
}

/// A figure.
#[derive(Clone, Debug)]
pub struct Figure {
    /// What it shows.
    pub title: String,
    /// More of that, in a smaller line.
    pub subtitle: String,
    /// Across.
    pub x: Axis,
    /// Upwards.
    pub y: Axis,
    /// What is drawn, in order.
    pub marks: Vec<Mark>,
    /// Width and height in pixels.
    pub size: (f64, f64),
    /// At least so much room at the right for the names of lines, in pixels: figures on one page share it.
    pub room: f64,
}

impl Figure {
    /// A figure without marks.
    pub fn new(title: &str, x: Axis, y: Axis) -> Figure {
        Figure { title: title.to_string(), subtitle: String::new(), x, y, marks: Vec::new(), size: (760.0, 440.0), room: 0.0 }
    }

    /// With one more mark.
    pub fn with(mut self, mark: Mark) -> Figure {
        self.marks.push(mark);
        self
    }

    /// A line without a name.
    pub fn line(self, points: Vec<(f64, f64)>, color: &str, dashed: bool) -> Figure {
        self.with(Mark::Line { points, name: None, color: color.to_string(), dashed })
    }

    /// The room at the right that the names of its lines take, in pixels.
    pub fn room_for_names(&self) -> f64 {
        draw::room_for_names(self)
    }

    /// The figure as SVG.
    pub fn svg(&self) -> String {
        draw::svg(self)
    }
}
