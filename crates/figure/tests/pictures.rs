//! Figures of anything at all: SVG that is well formed, words that stay words, nothing beyond the page, and a picture of
//! the size that was asked for.
#![allow(clippy::disallowed_methods, clippy::unwrap_used, missing_docs)]

use proptest::prelude::*;
use textum_figure::{Axis, COLORS, Figure, Mark, Scale, nice_ticks, number, png};

/// Numbers as metrics are: of any size, and sometimes none.
fn value() -> impl Strategy<Value = f64> {
    prop_oneof![
        6 => -1e3..1e3f64,
        2 => any::<f64>(),
        1 => prop::sample::select(vec![0.0, -0.0, f64::NAN, f64::INFINITY, f64::NEG_INFINITY, f64::MIN_POSITIVE, 1e-12, 1e12]),
    ]
}

fn words() -> impl Strategy<Value = String> {
    prop_oneof![
        Just("loom stops".to_string()),
        Just("</text><script>alert('x')</script>&\"'".to_string()),
        Just("]]>\u{1b}[31m\u{0}".to_string()),
        ".{0,60}",
    ]
}

fn mark() -> impl Strategy<Value = Mark> {
    let color = || prop::sample::select(COLORS.to_vec()).prop_map(String::from);
    let pair = || (value(), value());
    prop_oneof![
        (prop::collection::vec(pair(), 0..30), prop::option::of(words()), color(), any::<bool>())
            .prop_map(|(points, name, color, dashed)| Mark::Line { points, name, color, dashed }),
        (prop::collection::vec((value(), value(), words()), 0..20), color()).prop_map(|(points, color)| Mark::Points {
            points,
            color,
            radius: 3.0
        }),
        (prop::collection::vec((value(), value(), value()), 0..20), color()).prop_map(|(bars, color)| Mark::Bars { bars, color }),
        prop::collection::vec((0.0..5.0f64, 0.0..5.0f64, value(), words()), 0..12).prop_map(|cells| Mark::Cells { cells }),
        (pair(), words()).prop_map(|(at, text)| Mark::Text { at, beside: text.len() % 2 == 0, text }),
        (pair(), words(), color()).prop_map(|(at, text, color)| Mark::Star { at, text, color }),
    ]
}

fn scale() -> impl Strategy<Value = Scale> {
    prop_oneof![
        3 => Just(Scale::Even),
        1 => Just(Scale::Bare),
        2 => Just(Scale::Log),
        1 => prop::collection::vec(words(), 0..6).prop_map(Scale::Names),
    ]
}

fn axis() -> impl Strategy<Value = Axis> {
    (words(), scale(), prop::option::of((value(), value()))).prop_map(|(label, scale, range)| Axis { label, scale, range })
}

/// The numbers in attributes of this name.
fn attributes(svg: &str, name: &str) -> Vec<f64> {
    let marker = format!(" {name}=\"");
    svg.match_indices(&marker)
        .map(|(at, _)| &svg[at + marker.len()..])
        .map(|rest| rest[..rest.find('"').unwrap()].parse().unwrap_or_else(|_| panic!("{name}: {}", &rest[..40.min(rest.len())])))
        .collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn whatever_is_drawn_is_well_formed_and_on_the_page(
        title in words(),
        subtitle in words(),
        x in axis(),
        y in axis(),
        marks in prop::collection::vec(mark(), 0..6),
        size in (120.0..500.0f64, 120.0..400.0f64),
    ) {
        let figure = Figure { title, subtitle, x, y, marks, size, room: 60.0 };
        let svg = figure.svg();
        prop_assert!(!svg.contains("<script") && !svg.contains("NaN") && !svg.contains("inf"), "{}", svg);
        prop_assert!(svg.chars().all(|c| !c.is_control() || c == '\n' || c == '\t'), "a control character: {:?}", svg);
        let (width, height) = size;
        for name in ["cx", "cy"] {
            for at in attributes(&svg, name) {
                prop_assert!(at.is_finite() && (-1e6..1e6).contains(&at), "{}={}", name, at);
            }
        }
        for name in ["width", "height"] {
            prop_assert!(attributes(&svg, name).iter().all(|n| n.is_finite() && *n >= 0.0));
        }
        let picture = png(&svg, 1.0).map_err(|e| TestCaseError::fail(format!("{}: {svg}", e.0)))?;
        prop_assert_eq!(&picture[..8], b"\x89PNG\r\n\x1a\n");
        let side = |at: usize| u32::from_be_bytes(picture[at..at + 4].try_into().unwrap());
        prop_assert!((f64::from(side(16)) - width).abs() <= 1.0 && (f64::from(side(20)) - height).abs() <= 1.0);
    }

    #[test]
    fn ticks_are_round_even_and_within(a in -1e6..1e6f64, span in 1e-6..1e6f64, about in 1usize..12) {
        let (from, to) = (a, a + span);
        let ticks = nice_ticks(from, to, about);
        prop_assert!(ticks.len() <= 2 * about + 2, "{} for about {}", ticks.len(), about);
        for pair in ticks.windows(3) {
            let (one, other) = (pair[1] - pair[0], pair[2] - pair[1]);
            prop_assert!(one > 0.0 && (one - other).abs() <= one * 1e-6 + 1e-9 * to.abs().max(from.abs()), "{:?}", ticks);
        }
        let room = span * 1e-6;
        prop_assert!(ticks.iter().all(|t| *t >= from - room && *t <= to + room), "{:?} in {}..{}", ticks, from, to);
    }

    #[test]
    fn a_number_at_an_axis_says_nearly_its_value(n in prop_oneof![-1e6..1e6f64, any::<f64>()]) {
        prop_assume!(n.is_finite());
        let text = number(n);
        let read: f64 = text.replace('−', "-").parse().unwrap();
        prop_assert!((read - n).abs() <= n.abs() * 1e-3 + 1e-12, "{} is written {}", n, text);
        prop_assert!(text.chars().count() <= 25, "{}", text);
    }
}

#[test]
fn ranges_without_extent_do_no_harm() {
    for (from, to) in [(0.0, 0.0), (1.0, -1.0), (f64::NAN, 1.0), (0.0, f64::INFINITY), (f64::MIN, f64::MAX), (1e300, 1e300 + 1.0)] {
        assert!(nice_ticks(from, to, 5).len() < 100, "{from}..{to}");
    }
}

#[test]
fn a_line_is_broken_where_a_value_is_none() {
    let points = vec![(0.0, 1.0), (1.0, 2.0), (2.0, f64::NAN), (3.0, 4.0), (4.0, 5.0)];
    let svg = Figure::new("t", Axis::even("x"), Axis::even("y")).line(points, "#0b6e8f", false).svg();
    let path = svg.split("<path d=\"").find(|p| p.contains("#0b6e8f")).unwrap();
    let path = &path[..path.find('"').unwrap()];
    assert_eq!((path.matches('M').count(), path.matches('L').count()), (2, 2), "{path}");
}
