//! Lines on one grid of Braille dots, two to the right and four down in each character. All series share it, so that
//! lines that cross do not erase one another: a character has the dots of all of them, and the colour of the one with
//! most dots in it.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Color;

/// A grid over an area, with the ranges of values that its sides stand for.
pub struct Grid {
    area: Rect,
    x: (f64, f64),
    y: (f64, f64),
    /// For each dot the number of the series that it belongs to, from 1; 0: none.
    dots: Vec<u16>,
}

impl Grid {
    /// An empty grid.
    pub fn new(area: Rect, x: (f64, f64), y: (f64, f64)) -> Grid {
        let count = usize::from(area.width) * 2 * usize::from(area.height) * 4;
        Grid { area, x, y, dots: vec![0; count] }
    }

    fn columns(&self) -> i64 {
        i64::from(self.area.width) * 2
    }

    fn rows(&self) -> i64 {
        i64::from(self.area.height) * 4
    }

    /// The dot of a point, which may lie outside.
    fn place(&self, (x, y): (f64, f64)) -> (i64, i64) {
        let across = (x - self.x.0) / (self.x.1 - self.x.0).max(f64::MIN_POSITIVE);
        let up = (y - self.y.0) / (self.y.1 - self.y.0).max(f64::MIN_POSITIVE);
        let at = |share: f64, dots: i64| (share * (dots - 1) as f64).round().clamp(-1e9, 1e9) as i64;
        (at(across, self.columns()), at(1.0 - up, self.rows()))
    }

    fn set(&mut self, (column, row): (i64, i64), series: u16) {
        if (0..self.columns()).contains(&column) && (0..self.rows()).contains(&row) {
            let at = row * self.columns() + column;
            self.dots[at as usize] = series + 1;
        }
    }

    /// Draws a line through points, by Bresenham's algorithm.
    pub fn line(&mut self, points: &[(f64, f64)], series: u16) {
        for pair in points.windows(2) {
            let ((mut x, mut y), (to_x, to_y)) = (self.place(pair[0]), self.place(pair[1]));
            let (wide, high) = ((to_x - x).abs(), -(to_y - y).abs());
            let (step_x, step_y) = ((to_x - x).signum(), (to_y - y).signum());
            let mut error = wide + high;
            // A line that leaves the grid far away is not followed there.
            for _ in 0..=(wide - high).min(100_000) {
                self.set((x, y), series);
                if (x, y) == (to_x, to_y) {
                    break;
                }
                let twice = 2 * error;
                if twice >= high {
                    error += high;
                    x += step_x;
                }
                if twice <= wide {
                    error += wide;
                    y += step_y;
                }
            }
        }
    }

    /// Marks points on their line.
    pub fn points(&mut self, points: &[(f64, f64)], series: u16) {
        for point in points {
            let (x, y) = self.place(*point);
            for (right, down) in [(0, 0), (1, 0), (-1, 0), (0, 1), (0, -1)] {
                self.set((x + right, y + down), series);
            }
        }
    }

    /// Puts the dots into a buffer, in the colour of each series.
    pub fn put(&self, colors: &[Color], buffer: &mut Buffer) {
        for row in 0..self.area.height {
            for column in 0..self.area.width {
                let mut mask = 0u32;
                let mut counts: Vec<(u16, u32)> = Vec::new();
                for (down, right, bit) in DOTS {
                    let at = (i64::from(row) * 4 + down) * self.columns() + i64::from(column) * 2 + right;
                    let series = self.dots[at as usize];
                    if series > 0 {
                        mask |= bit;
                        match counts.iter_mut().find(|(s, _)| *s == series) {
                            Some((_, count)) => *count += 1,
                            None => counts.push((series, 1)),
                        }
                    }
                }
                // Of two with as many dots the one drawn later, which stands in front.
                if let Some((series, _)) = counts.into_iter().max_by_key(|(series, count)| (*count, *series)) {
                    let cell = &mut buffer[(self.area.x + column, self.area.y + row)];
                    // The names of the axes stay readable.
                    if cell.symbol() != " " {
                        continue;
                    }
                    cell.set_char(char::from_u32(0x2800 + mask).unwrap_or(' '));
                    cell.set_fg(colors.get(usize::from(series) - 1).copied().unwrap_or(Color::Reset));
                }
            }
        }
    }
}

/// Dots of a character, down and to the right, and their bits (Unicode Standard, "Braille Patterns").
const DOTS: [(i64, i64, u32); 8] =
    [(0, 0, 0x01), (1, 0, 0x02), (2, 0, 0x04), (0, 1, 0x08), (1, 1, 0x10), (2, 1, 0x20), (3, 0, 0x40), (3, 1, 0x80)];

#[cfg(test)]
mod tests {
    use super::*;

    fn drawn(lines: &[&[(f64, f64)]]) -> (Buffer, Grid) {
        let area = Rect::new(0, 0, 8, 4);
        let mut grid = Grid::new(area, (0.0, 1.0), (0.0, 1.0));
        lines.iter().enumerate().for_each(|(i, points)| grid.line(points, i as u16));
        let mut buffer = Buffer::empty(area);
        grid.put(&[Color::Cyan, Color::Magenta], &mut buffer);
        (buffer, grid)
    }

    #[test]
    fn lines_that_cross_do_not_erase_one_another() {
        let up: &[(f64, f64)] = &[(0.0, 0.0), (1.0, 1.0)];
        let down: &[(f64, f64)] = &[(0.0, 1.0), (1.0, 0.0)];
        let dots = |lines: &[&[(f64, f64)]]| {
            drawn(lines).0.content().iter().map(|c| u32::from(c.symbol().chars().next().unwrap())).collect::<Vec<_>>()
        };
        let (one, other, both) = (dots(&[up]), dots(&[down]), dots(&[up, down]));
        for ((one, other), both) in one.iter().zip(&other).zip(&both) {
            let bits = |c: &u32| c.saturating_sub(0x2800);
            assert_eq!(bits(both), bits(one) | bits(other));
        }
        let (buffer, _) = drawn(&[up, down]);
        assert_eq!((buffer[(0, 3)].fg, buffer[(0, 0)].fg), (Color::Cyan, Color::Magenta));
        assert_eq!(buffer[(3, 0)].symbol(), " ");
    }

    #[test]
    fn points_lie_on_their_lines_and_what_is_outside_is_left_out() {
        let area = Rect::new(0, 0, 8, 4);
        let mut grid = Grid::new(area, (0.0, 10.0), (-1.0, 1.0));
        let points = [(0.0, -1.0), (5.0, 0.0), (10.0, 1.0)];
        grid.points(&points, 0);
        let places: Vec<_> = points.iter().map(|p| grid.place(*p)).collect();
        assert_eq!(places, [(0, 15), (8, 8), (15, 0)]);
        let mut line = Grid::new(area, (0.0, 10.0), (-1.0, 1.0));
        line.line(&points, 0);
        for (x, y) in places {
            let at = (y * grid.columns() + x) as usize;
            assert_eq!((grid.dots[at], line.dots[at]), (1, 1));
        }
        // Far away, not a number, and a range of nothing.
        grid.line(&[(f64::MAX, 1e300), (-1e300, f64::NAN)], 1);
        Grid::new(area, (2.0, 2.0), (3.0, 3.0)).line(&[(2.0, 3.0), (2.0, 3.0)], 0);
    }
}
