//! The recovery sheet: one page for the safe, with all it takes to get everything back.

use qrcode::{Color, EcLevel, QrCode, types::QrError};

use crate::paper::{Font, MARGIN, Page, Paper};

/// Light squares around a code, as ISO/IEC 18004 asks for.
const QUIET: usize = 4;
/// How wide the code is, in points.
const CODE: f32 = 150.0;

/// One thing to do.
#[derive(Clone, Debug)]
pub struct Step {
    /// What.
    pub what: String,
    /// The command to type, if any.
    pub command: Option<String>,
}

/// What opens the store.
#[derive(Clone, Debug)]
pub struct ForRecovery {
    /// The recovery code, in groups with blanks between them.
    pub code: String,
    /// The id of its passphrase slot, by which it is revoked.
    pub slot: String,
    /// Whether it only restores.
    pub restore_only: bool,
}

/// What stands on the sheet.
#[derive(Clone, Debug)]
pub struct RecoverySheet {
    /// The store's name on the machine.
    pub store: String,
    /// Its id.
    pub id: String,
    /// Its place, as commands take it.
    pub place: String,
    /// How the place is reached: account, port, host key, in words.
    pub access: Vec<String>,
    /// The machine that made the sheet.
    pub machine: String,
    /// The day.
    pub date: String,
    /// The recovery code; without one there is room to write a passphrase.
    pub opens: Option<ForRecovery>,
    /// What is in the store: plan, machine, and when its newest snapshot was made.
    pub plans: Vec<(String, String, String)>,
    /// What to do.
    pub steps: Vec<Step>,
}

/// So many plans are listed; the others are counted.
const PLANS: usize = 8;

impl RecoverySheet {
    /// What the code for cameras says: what the sheet says, for whoever would mistype it.
    #[must_use]
    pub fn scanned(&self) -> String {
        let mut text = format!("skellin recovery 1\nplace {}\nstore {}\n", self.place, self.id);
        if let Some(opens) = &self.opens {
            text.push_str(&format!("code {}\n", opens.code));
        }
        text
    }

    /// The sheet as PDF, one page.
    ///
    /// # Errors
    /// If the place is too long for a code.
    pub fn pdf(&self, paper: Paper) -> Result<Vec<u8>, QrError> {
        let code = QrCode::with_error_correction_level(self.scanned(), EcLevel::M)?;
        let side = code.width() + 2 * QUIET;
        let mut dark = vec![false; side * side];
        for (number, color) in code.to_colors().iter().enumerate() {
            let (column, row) = (number % code.width(), number / code.width());
            dark[(row + QUIET) * side + column + QUIET] = *color == Color::Dark;
        }
        let mut page = Page::new(paper);
        let text_width = page.width() - CODE - 12.0;
        page.line((Font::Bold, 22.0), 0.0, &format!("Recovery sheet of store {}", self.store));
        page.skip(5.0);
        page.line(
            (Font::Text, 10.0),
            0.0,
            &format!("Made on {} by machine {}", self.date, self.machine),
        );
        page.rule();
        let top = page.y;
        page.squares((page.width() - CODE, top), CODE, side, &dark);
        page.skip(4.0);
        page.line((Font::Bold, 11.0), 0.0, "Place");
        page.wrapped((Font::Fixed, 10.0), 0.0, text_width, &self.place);
        for line in &self.access {
            page.wrapped((Font::Fixed, 8.0), 0.0, text_width, line);
        }
        page.wrapped((Font::Fixed, 8.0), 0.0, text_width, &format!("store id {}", self.id));
        page.skip(8.0);
        match &self.opens {
            Some(opens) => {
                let title = match opens.restore_only {
                    true => "Recovery code (restores everything, changes nothing)",
                    false => "Recovery code (opens the whole store)",
                };
                page.line((Font::Bold, 11.0), 0.0, title);
                page.skip(4.0);
                // Three groups a line: as one reads them aloud.
                let groups: Vec<&str> = opens.code.split_whitespace().collect();
                for some in groups.chunks(3) {
                    page.line((Font::FixedBold, 19.0), 0.0, &some.join(" "));
                }
                page.skip(3.0);
                page.line(
                    (Font::Text, 8.5),
                    0.0,
                    "Type it where a passphrase is asked for; small letters will do.",
                );
            }
            None => {
                page.line((Font::Bold, 11.0), 0.0, "Passphrase (write it here by hand)");
                page.skip(34.0);
                page.line(
                    (Font::Fixed, 10.0),
                    0.0,
                    "______________________________________________",
                );
            }
        }
        page.y = page.y.min(top - CODE);
        page.rule();
        page.line(
            (Font::Bold, 11.0),
            0.0,
            "Whoever holds this sheet and reaches the place reads everything in the store.",
        );
        page.line((Font::Text, 10.0), 0.0, "Keep it apart from the machine and the place, where neither fire nor theft takes both.");
        page.rule();
        page.line((Font::Bold, 11.0), 0.0, "In the store");
        if self.plans.is_empty() {
            page.line((Font::Text, 10.0), 0.0, "No snapshot yet.");
        }
        let width = page.width();
        for (plan, machine, newest) in self.plans.iter().take(PLANS) {
            let line = format!("{plan} of {machine}, newest {newest}");
            page.wrapped((Font::Fixed, 9.0), 0.0, width, &line);
        }
        if self.plans.len() > PLANS {
            let more = self.plans.len() - PLANS;
            page.line((Font::Text, 9.0), 0.0, &format!("and {more} more"));
        }
        page.rule();
        page.line((Font::Bold, 11.0), 0.0, "To get everything back, on any Linux machine");
        for (number, step) in self.steps.iter().enumerate() {
            page.skip(3.0);
            page.line((Font::Text, 10.0), 0.0, &format!("{}.  {}", number + 1, step.what));
            if let Some(command) = &step.command {
                page.wrapped((Font::Fixed, 9.0), 18.0, width, command);
            }
        }
        if let Some(opens) = &self.opens {
            page.y = page.y.min(MARGIN + 34.0);
            page.rule();
            let words = format!(
                "To make this sheet worthless: skellin passphrase revoke {} {}",
                self.store, opens.slot
            );
            page.wrapped((Font::Fixed, 8.5), 0.0, width, &words);
        }
        Ok(page.finish(&format!("Recovery sheet of store {}", self.store)))
    }
}
