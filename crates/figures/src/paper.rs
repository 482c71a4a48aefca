//! A page of PDF (ISO 32000), written from the top down, in the fonts that every reader has.

use pdf_writer::{Content, Finish as _, Name, Pdf, Rect, Ref, Str, TextStr};

/// The margin on all sides, in points (1/72 inch).
pub(crate) const MARGIN: f32 = 56.0;
/// How wide a character of the fixed font is, in parts of its size.
const FIXED: f32 = 0.6;

/// The size of the paper.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Paper {
    /// 210 × 297 mm.
    A4,
    /// 8.5 × 11 inch.
    Letter,
}

impl Paper {
    /// Width and height in points.
    pub(crate) fn size(self) -> (f32, f32) {
        match self {
            Self::A4 => (595.0, 842.0),
            Self::Letter => (612.0, 792.0),
        }
    }
}

/// A font.
#[derive(Clone, Copy)]
pub(crate) enum Font {
    Text,
    Bold,
    /// All characters are equally wide.
    Fixed,
    FixedBold,
}

impl Font {
    const ALL: [(Self, &'static str, &'static str); 4] = [
        (Self::Text, "F1", "Helvetica"),
        (Self::Bold, "F2", "Helvetica-Bold"),
        (Self::Fixed, "F3", "Courier"),
        (Self::FixedBold, "F4", "Courier-Bold"),
    ];

    fn name(self) -> Name<'static> {
        let (_, name, _) = Self::ALL[self as usize];
        Name(name.as_bytes())
    }
}

/// Text as the fonts have it: Latin letters; what they lack is a question mark.
fn latin(text: &str) -> Vec<u8> {
    text.chars()
        .map(|character| match character {
            ' '..='~' | '\u{a0}'..='\u{ff}' => character as u8,
            '–' => 0x96,
            '—' => 0x97,
            '…' => 0x85,
            '’' => 0x92,
            '→' => b'>',
            _ => b'?',
        })
        .collect()
}

/// A page that is being written.
pub(crate) struct Page {
    paper: Paper,
    content: Content,
    /// Where the next line is, from below.
    pub y: f32,
}

impl Page {
    pub fn new(paper: Paper) -> Self {
        let y = paper.size().1 - MARGIN;
        Self { paper, content: Content::new(), y }
    }

    /// Points between the margins.
    pub fn width(&self) -> f32 {
        self.paper.size().0 - 2.0 * MARGIN
    }

    /// Leaves room.
    pub fn skip(&mut self, points: f32) {
        self.y -= points;
    }

    /// A line, so far from the left margin; the next one is below.
    pub fn line(&mut self, (font, size): (Font, f32), indent: f32, text: &str) {
        self.y -= size * 1.3;
        let text = latin(text);
        self.content
            .begin_text()
            .set_font(font.name(), size)
            .next_line(MARGIN + indent, self.y)
            .show(Str(&text))
            .end_text();
    }

    /// Text of the fixed font, broken at blanks where it is too long, and within a word where one is.
    pub fn wrapped(&mut self, (font, size): (Font, f32), indent: f32, room: f32, text: &str) {
        let most = (((room - indent) / (size * FIXED)) as usize).max(8);
        for line in broken(text, most) {
            self.line((font, size), indent, &line);
        }
    }

    /// Black squares of a code whose upper left corner is here, so many points wide in all.
    pub fn squares(&mut self, (x, y): (f32, f32), width: f32, side: usize, dark: &[bool]) {
        let one = width / side as f32;
        for (number, _) in dark.iter().enumerate().filter(|(_, dark)| **dark) {
            let (column, row) = (number % side, number / side);
            self.content.rect(
                MARGIN + x + column as f32 * one,
                y - (row + 1) as f32 * one,
                one,
                one,
            );
        }
        self.content.fill_nonzero();
    }

    /// A rule across the page.
    pub fn rule(&mut self) {
        self.y -= 8.0;
        self.content
            .set_line_width(0.7)
            .move_to(MARGIN, self.y)
            .line_to(self.paper.size().0 - MARGIN, self.y)
            .stroke();
        self.y -= 4.0;
    }

    /// The document.
    pub fn finish(self, title: &str) -> Vec<u8> {
        let [catalog, pages, page, content, info] = [1, 2, 3, 4, 5].map(Ref::new);
        let fonts: Vec<Ref> = (6..10).map(Ref::new).collect();
        let (width, height) = self.paper.size();
        let mut pdf = Pdf::new();
        pdf.catalog(catalog).pages(pages).lang(TextStr("en"));
        pdf.document_info(info).title(TextStr(title)).producer(TextStr("Skellin"));
        pdf.pages(pages).kids([page]).count(1);
        let mut one = pdf.page(page);
        one.media_box(Rect::new(0.0, 0.0, width, height)).parent(pages).contents(content);
        let mut resources = one.resources();
        let mut named = resources.fonts();
        for ((font, ..), reference) in Font::ALL.iter().zip(&fonts) {
            named.pair(font.name(), *reference);
        }
        named.finish();
        resources.finish();
        one.finish();
        pdf.stream(content, &self.content.finish());
        for ((_, _, base), reference) in Font::ALL.iter().zip(&fonts) {
            pdf.type1_font(*reference)
                .base_font(Name(base.as_bytes()))
                .encoding_predefined(Name(b"WinAnsiEncoding"));
        }
        pdf.finish()
    }
}

/// Lines of at most so many characters.
fn broken(text: &str, most: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    let mut line = String::new();
    for word in text.split(' ') {
        let mut word: Vec<char> = word.chars().collect();
        if !line.is_empty() && line.chars().count() + 1 + word.len() > most {
            lines.push(std::mem::take(&mut line));
        }
        if !line.is_empty() {
            line.push(' ');
        }
        while line.chars().count() + word.len() > most {
            let fits = most - line.chars().count();
            line.extend(word.drain(..fits));
            lines.push(std::mem::take(&mut line));
        }
        line.extend(word);
    }
    if !line.is_empty() {
        lines.push(line);
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_broken_and_nothing_is_lost() {
        assert_eq!(broken("two terns on the ridge", 9), ["two terns", "on the", "ridge"]);
        let path = "sftp://keeper@pier.example/srv/skellin/very/deep/below";
        for most in 8..40 {
            let lines = broken(&format!("at {path} now"), most);
            assert!(lines.iter().all(|line| line.chars().count() <= most), "{lines:?}");
            let joined = lines.concat().replace(' ', "");
            assert_eq!(joined, format!("at{path}now"));
        }
        assert_eq!(broken("", 10), Vec::<String>::new());
    }

    #[test]
    fn what_the_fonts_lack_is_marked() {
        assert_eq!(latin("ü → é…\u{1b}鳥"), b"\xFC > \xE9\x85??");
    }
}
