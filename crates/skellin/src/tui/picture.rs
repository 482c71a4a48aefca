//! Pictures in cells: two pixels each, one above the other. That needs nothing of a terminal but
//! colours, and passes through every multiplexer and every line.

use ratatui::{
    style::{Color, Style},
    text::{Line, Span},
};
use skellin_engine::picture::Picture;

/// What a terminal can show.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Depth {
    /// Any colour.
    Full,
    /// The 256-colour palette.
    Palette,
    /// No colours: shades.
    Shades,
}

impl Depth {
    /// As the environment says (`NO_COLOR`, `COLORTERM`).
    pub fn new(has_colours: bool) -> Self {
        let said = std::env::var("COLORTERM").unwrap_or_default();
        match (has_colours, said.as_str()) {
            (false, _) => Self::Shades,
            (true, "truecolor" | "24bit") => Self::Full,
            (true, _) => Self::Palette,
        }
    }

    fn colour(self, [red, green, blue]: [u8; 3]) -> Color {
        let step = |value: u8| match value {
            0..48 => 0,
            48..115 => 1,
            _ => (value - 35) / 40,
        };
        match self {
            Self::Full => Color::Rgb(red, green, blue),
            _ => Color::Indexed(16 + 36 * step(red) + 6 * step(green) + step(blue)),
        }
    }
}

/// From dark to light.
const SHADES: [&str; 5] = [" ", "░", "▒", "▓", "█"];

fn shade([red, green, blue]: [u8; 3]) -> usize {
    let light = (2 * u32::from(red) + 7 * u32::from(green) + u32::from(blue)) / 10;
    (light as usize * SHADES.len() / 256).min(SHADES.len() - 1)
}

/// The mean of a rectangle of pixels.
fn mean(
    picture: &Picture,
    (from_x, to_x): (usize, usize),
    (from_y, to_y): (usize, usize),
) -> [u8; 3] {
    let (mut sums, mut count) = ([0u32; 3], 0u32);
    for y in from_y..to_y.max(from_y + 1) {
        for x in from_x..to_x.max(from_x + 1) {
            let Some(pixel) = picture.pixels.get(y * picture.width + x) else { continue };
            for (sum, value) in sums.iter_mut().zip(pixel) {
                *sum += u32::from(*value);
            }
            count += 1;
        }
    }
    sums.map(|sum| (sum / count.max(1)) as u8)
}

/// A picture in at most so many columns and lines, its proportions kept.
pub(super) fn lines(
    picture: &Picture,
    columns: usize,
    rows: usize,
    depth: Depth,
) -> Vec<Line<'static>> {
    let (width, height) = (picture.width, picture.pixels.len() / picture.width.max(1));
    if width == 0 || height == 0 || columns == 0 || rows == 0 {
        return Vec::new();
    }
    let room = (columns as f64, 2.0 * rows as f64);
    let scale = (room.0 / width as f64).min(room.1 / height as f64);
    let across = ((width as f64 * scale) as usize).clamp(1, columns);
    let down = ((height as f64 * scale) as usize).clamp(1, 2 * rows);
    let at = |x: usize, y: usize| {
        let part =
            |number: usize, of: usize, all: usize| (number * all / of, (number + 1) * all / of);
        mean(picture, part(x, across, width), part(y, down, height))
    };
    let cell = |x: usize, y: usize| {
        let upper = at(x, y);
        let lower = (y + 1 < down).then(|| at(x, y + 1));
        if depth == Depth::Shades {
            return Span::raw(SHADES[shade(upper)]);
        }
        let style = Style::new().fg(depth.colour(upper));
        Span::styled("▀", lower.map_or(style, |lower| style.bg(depth.colour(lower))))
    };
    (0..down).step_by(2).map(|y| Line::from_iter((0..across).map(|x| cell(x, y)))).collect()
}

/// A line that begins further right.
pub(super) fn indented(mut line: Line<'static>, columns: usize) -> Line<'static> {
    line.spans.insert(0, Span::raw(" ".repeat(columns)));
    line
}

/// What a picture is, beside the bytes of its file.
pub(super) fn words(picture: &Picture, bytes: u64) -> String {
    let (across, down) = picture.size;
    format!("  {} {across} × {down} pixels, {}", picture.format, crate::words::bytes(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ramp(width: usize, height: usize) -> Picture {
        let pixels =
            (0..height).flat_map(|_| (0..width).map(move |x| [(x * 255 / (width - 1)) as u8; 3]));
        let size = (width as u32, height as u32);
        Picture { format: "PNG", size, width, pixels: pixels.collect() }
    }

    fn text(lines: &[Line<'_>]) -> Vec<String> {
        lines.iter().map(Line::to_string).collect()
    }

    #[test]
    fn proportions_are_kept_whatever_the_room() {
        for (columns, rows, expected) in [(40, 40, (40, 10)), (40, 5, (20, 5)), (1, 1, (1, 1))] {
            let drawn = lines(&ramp(80, 40), columns, rows, Depth::Full);
            assert_eq!((drawn[0].width(), drawn.len()), expected);
        }
        assert!(lines(&ramp(80, 40), 0, 5, Depth::Full).is_empty());
        let thin = Picture { pixels: vec![[9; 3]; 5000], size: (1, 5000), ..ramp(2, 1) };
        assert_eq!(lines(&Picture { width: 1, ..thin }, 20, 10, Depth::Full).len(), 10);
    }

    #[test]
    fn without_colours_there_are_shades_and_with_few_the_nearest() {
        let drawn = text(&lines(&ramp(10, 4), 10, 2, Depth::Shades));
        assert_eq!(drawn, ["  ░░▒▒▓▓██", "  ░░▒▒▓▓██"]);
        let drawn = lines(&ramp(2, 2), 2, 1, Depth::Palette);
        let colours: Vec<_> = drawn[0].spans.iter().map(|span| span.style.fg).collect();
        assert_eq!(colours, [Some(Color::Indexed(16)), Some(Color::Indexed(231))]);
    }
}
