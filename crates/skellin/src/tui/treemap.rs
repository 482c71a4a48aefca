//! Rectangles in proportion to numbers, as square as they get (squarified treemaps: Bruls,
//! Huizing and van Wijk, 2000), on a grid of cells that are twice as high as wide.

use ratatui::layout::Rect;

/// How much higher than wide a cell is.
const CELL: f64 = 2.0;

/// A rectangle for each weight, in their order; the weights must fall. Together the rectangles
/// fill the area and none lies over another. What is too small for a cell gets an empty one.
pub(super) fn layout(weights: &[f64], area: Rect) -> Vec<Rect> {
    let mut out = Vec::with_capacity(weights.len());
    let (mut rest, mut area) = (weights, area);
    while !rest.is_empty() {
        if area.width == 0 || area.height == 0 {
            out.extend(rest.iter().map(|_| Rect { width: 0, height: 0, ..area }));
            break;
        }
        let total: f64 = rest.iter().sum();
        if total <= 0.0 {
            out.extend(rest.iter().map(|_| Rect { width: 0, height: 0, ..area }));
            break;
        }
        // A row lies along the shorter side.
        let (width, height) = (f64::from(area.width), f64::from(area.height) * CELL);
        let upright = width >= height;
        let side = if upright { height } else { width };
        let scale = width * height / total;
        let mut count = 1;
        while count < rest.len()
            && worst(&rest[..=count], side, scale) <= worst(&rest[..count], side, scale)
        {
            count += 1;
        }
        let (row, after) = rest.split_at(count);
        let share = row.iter().sum::<f64>() / total;
        let thickness = if after.iter().sum::<f64>() <= 0.0 {
            if upright { area.width } else { area.height }
        } else {
            let whole = f64::from(if upright { area.width } else { area.height });
            (share * whole).round() as u16
        };
        let strip = if upright {
            Rect { width: thickness, ..area }
        } else {
            Rect { height: thickness, ..area }
        };
        out.extend(along(row, strip, upright));
        area = if upright {
            Rect { x: area.x + thickness, width: area.width - thickness, ..area }
        } else {
            Rect { y: area.y + thickness, height: area.height - thickness, ..area }
        };
        rest = after;
    }
    out
}

/// The worst proportion in a row: 1 is a square.
fn worst(row: &[f64], side: f64, scale: f64) -> f64 {
    let sum = row.iter().sum::<f64>() * scale;
    let (largest, smallest) = (row[0] * scale, row[row.len() - 1] * scale);
    if smallest <= 0.0 {
        return f64::INFINITY;
    }
    (side * side * largest / (sum * sum)).max(sum * sum / (side * side * smallest))
}

/// Cuts a strip into pieces.
fn along(row: &[f64], strip: Rect, upright: bool) -> Vec<Rect> {
    let sum: f64 = row.iter().sum();
    let length = if upright { strip.height } else { strip.width };
    let (mut passed, mut from) = (0.0, 0);
    let mut out = Vec::with_capacity(row.len());
    for (number, weight) in row.iter().enumerate() {
        passed += weight;
        let to = if number + 1 == row.len() {
            length
        } else {
            ((passed / sum * f64::from(length)).round() as u16).clamp(from, length)
        };
        out.push(if upright {
            Rect { y: strip.y + from, height: to - from, ..strip }
        } else {
            Rect { x: strip.x + from, width: to - from, ..strip }
        });
        from = to;
    }
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_rectangles_fill_the_area_and_keep_apart(
            mut weights in proptest::collection::vec(0.0..1000.0f64, 1..40),
            width in 1..90u16,
            height in 1..40u16,
        ) {
            weights.push(1.0);
            weights.sort_by(|a, b| b.total_cmp(a));
            let area = Rect { x: 3, y: 2, width, height };
            let tiles = layout(&weights, area);
            prop_assert_eq!(tiles.len(), weights.len());
            let mut covered = vec![0; usize::from(width) * usize::from(height)];
            for tile in &tiles {
                for y in tile.top()..tile.bottom() {
                    for x in tile.left()..tile.right() {
                        prop_assert!(area.contains((x, y).into()));
                        covered[usize::from(y - 2) * usize::from(width) + usize::from(x - 3)] += 1;
                    }
                }
            }
            prop_assert!(covered.iter().all(|times| *times == 1));
        }
    }

    #[test]
    fn sizes_are_in_proportion_and_shapes_near_squares() {
        let weights = [600.0, 600.0, 400.0, 300.0, 200.0, 200.0, 100.0];
        let area = Rect { x: 0, y: 0, width: 120, height: 40 };
        for (tile, weight) in layout(&weights, area).iter().zip(weights) {
            let cells = f64::from(tile.area()) / f64::from(area.area()) * 2400.0;
            assert!((cells - weight).abs() < 40.0, "{tile:?} for {weight}");
            let shape = f64::from(tile.width) / (f64::from(tile.height) * CELL);
            assert!((0.33..3.0).contains(&shape), "{tile:?}");
        }
    }
}
