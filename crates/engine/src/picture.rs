//! Pictures in files, made small enough to be looked at in a terminal. Whatever a file says of itself,
//! neither its sides nor what it takes to decode it are unbounded.

use std::io::Cursor;

use image::{ImageReader, Limits};

/// Larger files are not taken for pictures, in bytes.
pub const LARGEST_PICTURE: usize = 24 << 20;
/// A side may have so many pixels,
const LONGEST_SIDE: u32 = 16 << 10;
/// and decoding may take so much memory, in bytes.
const MEMORY: u64 = 96 << 20;
/// What is kept fits into so many pixels.
const KEPT: (u32, u32) = (320, 200);

/// A picture, scaled down.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// The format, such as `PNG`.
    pub format: &'static str,
    /// Pixels of a row and of a column as the file has them.
    pub size: (u32, u32),
    /// Pixels of a row here.
    pub width: usize,
    /// Red, green and blue, row by row from the top; what is transparent lies on grey.
    pub pixels: Vec<[u8; 3]>,
}

/// Whether bytes begin as a picture does that [`picture`] may understand.
#[must_use]
pub fn begins_picture(bytes: &[u8]) -> bool {
    format_of(bytes).is_some()
}

fn format_of(bytes: &[u8]) -> Option<(image::ImageFormat, &'static str)> {
    use image::ImageFormat::{Bmp, Gif, Jpeg, Png, WebP};
    let format = image::guess_format(bytes).ok()?;
    let names = [(Png, "PNG"), (Jpeg, "JPEG"), (Gif, "GIF"), (WebP, "WebP"), (Bmp, "BMP")];
    names.into_iter().find(|(known, _)| *known == format)
}

/// The picture a whole file holds; none if it is something else, damaged, or too large.
#[must_use]
pub fn picture(bytes: &[u8]) -> Option<Picture> {
    let (format, name) = format_of(bytes).filter(|_| bytes.len() <= LARGEST_PICTURE)?;
    let mut limits = Limits::default();
    limits.max_image_width = Some(LONGEST_SIDE);
    limits.max_image_height = Some(LONGEST_SIDE);
    limits.max_alloc = Some(MEMORY);
    let mut reader = ImageReader::with_format(Cursor::new(bytes), format);
    reader.limits(limits);
    let decoded = reader.decode().ok()?;
    let size = (decoded.width(), decoded.height());
    let small = match size.0 > KEPT.0 || size.1 > KEPT.1 {
        true => decoded.thumbnail(KEPT.0, KEPT.1),
        false => decoded,
    };
    let small = small.to_rgba8();
    let over_grey = |value: u8, alpha: u8| {
        let (value, alpha) = (u32::from(value), u32::from(alpha));
        ((value * alpha + 128 * (255 - alpha)) / 255) as u8
    };
    let pixels = small.pixels().map(|pixel| {
        let [red, green, blue, alpha] = pixel.0;
        [red, green, blue].map(|value| over_grey(value, alpha))
    });
    let (width, pixels) = (small.width() as usize, pixels.collect());
    Some(Picture { format: name, size, width, pixels })
}

#[cfg(test)]
mod tests {
    use image::{DynamicImage, ImageFormat, Rgba, RgbaImage};
    use proptest::prelude::*;

    use super::*;

    fn encoded(image: RgbaImage, format: ImageFormat) -> Vec<u8> {
        let mut bytes = Cursor::new(Vec::new());
        let image = DynamicImage::from(image);
        let image = if format == ImageFormat::Jpeg { image.to_rgb8().into() } else { image };
        image.write_to(&mut bytes, format).expect("encodes");
        bytes.into_inner()
    }

    fn halves(width: u32, height: u32) -> RgbaImage {
        RgbaImage::from_fn(width, height, |x, _| match x < width / 2 {
            true => Rgba([250, 10, 10, 255]),
            false => Rgba([10, 10, 250, 0]),
        })
    }

    #[test]
    fn pictures_are_seen_in_every_format_and_scaled_down() {
        use ImageFormat::{Bmp, Gif, Jpeg, Png, WebP};
        let formats = [(Png, "PNG"), (Jpeg, "JPEG"), (Gif, "GIF"), (WebP, "WebP"), (Bmp, "BMP")];
        for (format, name) in formats {
            let bytes = encoded(halves(1000, 500), format);
            assert!(begins_picture(&bytes), "{name}");
            let seen = picture(&bytes).expect(name);
            assert_eq!((seen.format, seen.size, seen.width), (name, (1000, 500), 320));
            assert_eq!(seen.pixels.len(), 320 * 160);
            let [red, green, blue] = seen.pixels[320 * 80 + 10];
            assert!(red > 240 && green < 20 && blue < 20, "{name}: {red} {green} {blue}");
        }
        let small = picture(&encoded(halves(6, 4), Png)).expect("a picture");
        assert_eq!((small.width, small.pixels.len()), (6, 24), "a small one stays as it is");
        assert_eq!(small.pixels[5], [128; 3], "what is transparent is grey");
    }

    #[test]
    fn what_is_no_picture_or_wants_too_much_is_none() {
        assert_eq!(picture(b"date;gauge\n"), None);
        assert_eq!(picture(b""), None);
        // A GIF's screen of 65,535 by 65,535, in ten bytes; a BMP's of a gigabyte.
        assert_eq!(picture(b"GIF89a\xff\xff\xff\xff\0\0\0\x2c\0\0\0\0\xff\xff\xff\xff\0"), None);
        let mut bmp = encoded(halves(6, 4), ImageFormat::Bmp);
        bmp[18..22].copy_from_slice(&16_000u32.to_le_bytes());
        bmp[22..26].copy_from_slice(&16_000u32.to_le_bytes());
        assert_eq!(picture(&bmp), None);
        let whole = encoded(halves(300, 200), ImageFormat::Png);
        assert_eq!(picture(&whole[..whole.len() / 2]), None, "cut");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        /// Damage is never more than a picture that looks wrong.
        #[test]
        fn damaged_pictures_do_no_harm(
            which in 0usize..5, edits in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..8),
        ) {
            use ImageFormat::{Bmp, Gif, Jpeg, Png, WebP};
            let mut bytes = encoded(halves(40, 30), [Png, Jpeg, Gif, WebP, Bmp][which]);
            for (at, byte) in edits {
                let at = at.index(bytes.len());
                bytes[at] = byte;
            }
            if let Some(seen) = picture(&bytes) {
                prop_assert!(seen.width <= 320 && seen.pixels.len() <= 320 * 200);
            }
        }
    }
}
