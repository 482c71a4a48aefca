//! The map of a directory: a field for each name, as large as its bytes; what is included is blank,
//! what is excluded is hatched.

use ratatui::{
    Frame,
    buffer::Buffer,
    layout::Rect,
    text::{Line, Text},
};
use unicode_width::UnicodeWidthStr;

use crate::{
    tui::{model::Model, rows::join, theme::Theme, treemap::layout, worker::Tile},
    words::{self, fit},
};

const HATCH: &str = "╱";
/// A tile narrower than this shows its name whole or not at all, in columns.
const LEGIBLE: usize = 14;
/// More tiles than this are no longer told apart.
const MOST: usize = 40;

pub(super) fn draw(frame: &mut Frame<'_>, app: &Model, area: Rect) {
    let theme = app.theme;
    let width = usize::from(area.width);
    let Some(map) = &app.map else {
        let text = Line::styled(" map of the selected directory", theme.quiet());
        return frame.render_widget(text, area);
    };
    let name = map.path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
    let mut head =
        vec![Line::styled(fit(&format!(" {}/", words::path(name)), width), theme.strong())];
    let tiles = match &map.tiles {
        Some(Ok(tiles)) => refreshed(app, &map.path, tiles),
        Some(Err(trouble)) => {
            head.push(Line::styled(fit(&format!(" ✕ {}", trouble.what), width), theme.wrong()));
            return frame.render_widget(Text::from(head), area);
        }
        None => {
            head.push(Line::styled(" measuring …", theme.quiet()));
            return frame.render_widget(Text::from(head), area);
        }
    };
    let (taken, skipped) = tiles
        .iter()
        .fold((0, 0), |(taken, skipped), tile| (taken + tile.taken, skipped + tile.skipped));
    head.push(Line::styled(
        fit(
            &format!(
                " {} included, {} excluded {HATCH}{HATCH}",
                words::bytes(taken),
                words::bytes(skipped)
            ),
            width,
        ),
        theme.quiet(),
    ));
    let used = head.len() as u16;
    frame.render_widget(Text::from(head), area);
    let field = Rect {
        x: area.x + 1,
        y: area.y + used,
        width: area.width.saturating_sub(2),
        height: area.height.saturating_sub(used + 1),
    };
    if taken + skipped == 0 || field.width < 4 || field.height < 2 {
        let text = Line::styled(" empty", theme.quiet());
        return frame.render_widget(text, Rect { y: area.y + used, height: 1, ..area });
    }
    let selected = app.tree.selected.as_deref();
    let is_selected =
        |tile: &Tile| matches!(&tile.label, Ok(name) if selected == Some(&*join(&map.path, name)));
    let chosen = tiles.iter().position(is_selected);
    let (tiles, places, own) = legible(&tiles, field);
    let buffer = frame.buffer_mut();
    for (tile, place) in tiles.iter().zip(places) {
        // One that has none of its own is among the others.
        let is_among = tile.label.is_err() && chosen.is_some_and(|chosen| chosen >= own);
        let here = is_selected(tile) || is_among;
        draw_tile(buffer, tile, place, here, theme);
    }
    // The far sides, which no tile draws.
    let (right, bottom) = (field.right(), field.bottom());
    for y in field.top()..bottom {
        let meets = buffer[(right - 1, y)].symbol() == "─";
        let side = match (y == field.top(), meets) {
            (true, _) => "┐",
            (false, true) => "┤",
            (false, false) => "│",
        };
        buffer.set_string(right, y, side, theme.quiet());
    }
    let line = "─".repeat(usize::from(field.width).saturating_sub(1));
    buffer.set_string(field.x, bottom, format!("└{line}┘"), theme.quiet());
}

/// Tiles with what is known by now, the largest first and those of many names last.
fn refreshed(app: &Model, path: &[u8], tiles: &[Tile]) -> Vec<Tile> {
    let census = app.counting().map(|counting| &counting.census);
    let mut tiles: Vec<Tile> = tiles.to_vec();
    for tile in &mut tiles {
        let shares = match &tile.label {
            Ok(name) if tile.is_directory => {
                census.and_then(|census| census.shares(&join(path, name)))
            }
            _ => None,
        };
        if let Some(shares) = shares {
            (tile.taken, tile.skipped) = (shares.taken().bytes, shares.skipped.bytes);
        }
    }
    tiles.sort_by_key(|tile| std::cmp::Reverse(tile.taken + tile.skipped));
    tiles
}

fn weight(tile: &Tile) -> f64 {
    (tile.taken + tile.skipped) as f64
}

/// As many tiles as can be told apart, the rest in one; their places, and how many have their own.
fn legible(tiles: &[Tile], field: Rect) -> (Vec<Tile>, Vec<Rect>, usize) {
    let mut own = tiles.len().min(MOST);
    loop {
        let (kept, rest) = tiles.split_at(own);
        let mut shown = kept.to_vec();
        if !rest.is_empty() {
            let of = |tile: &Tile| tile.label.as_ref().map_or_else(|many| *many, |_| 1);
            let others = Tile {
                label: Err(rest.iter().map(of).sum()),
                is_directory: false,
                taken: rest.iter().map(|tile| tile.taken).sum(),
                skipped: rest.iter().map(|tile| tile.skipped).sum(),
            };
            let at = shown.partition_point(|tile| weight(tile) >= weight(&others));
            shown.insert(at, others);
        }
        let weights: Vec<f64> = shown.iter().map(weight).collect();
        let places = layout(&weights, field);
        let tells = |(tile, place): (&Tile, &Rect)| {
            place.height > 1 && label(tile).width().min(LEGIBLE) < usize::from(place.width)
        };
        if own <= 1 || shown.iter().zip(&places).all(tells) {
            return (shown, places, own);
        }
        own -= 1;
    }
}

fn label(tile: &Tile) -> String {
    match &tile.label {
        Ok(name) => format!("{}{}", words::path(name), if tile.is_directory { "/" } else { "" }),
        Err(others) => format!("{} more", words::count(*others)),
    }
}

fn draw_tile(buffer: &mut Buffer, tile: &Tile, place: Rect, is_selected: bool, theme: Theme) {
    if place.width == 0 || place.height == 0 {
        return;
    }
    let all = tile.taken + tile.skipped;
    let is_left_out = tile.taken == 0;
    let tone = if is_left_out { theme.quiet() } else { theme.is() };
    let width = usize::from(place.width);
    buffer.set_string(place.x, place.y, format!("┌{}", "─".repeat(width - 1)), theme.quiet());
    // What is excluded fills the lower part.
    let inside = place.height - 1;
    let share = tile.skipped as f64 / all.max(1) as f64;
    let hatched = ((f64::from(inside) * share).round() as u16).min(inside);
    for y in place.y + 1..place.bottom() {
        buffer.set_string(place.x, y, "│", theme.quiet());
        if y >= place.bottom() - hatched {
            let hatch = HATCH.repeat(width - 1);
            buffer.set_string(place.x + 1, y, hatch, theme.quiet());
        }
    }
    if width < 4 {
        return;
    }
    let label = label(tile);
    let style = if is_selected { theme.cursor() } else { tone };
    let is_cut = label.width() > width - 1;
    let label = match is_cut && width < LEGIBLE {
        // A few letters of a name tell nothing; the cursor has to be seen all the same.
        true => if is_selected { "·" } else { "" }.to_owned(),
        false => fit(&label, width - 1),
    };
    buffer.set_string(place.x + 1, place.y, &label, style);
    let size = words::bytes(all);
    let after = label.width() + 2;
    if place.height > 2 && size.width() < width - 1 {
        buffer.set_string(place.x + 1, place.y + 1, &size, tone);
    } else if after + size.width() + 1 < width {
        buffer.set_string(place.x + after as u16, place.y, size, theme.quiet());
    }
}
