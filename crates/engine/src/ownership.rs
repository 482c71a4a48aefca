//! Whose word is taken: what belongs to others, or may be written by them, is not obeyed.
//!
//! A plan can run commands, and configuration names keys: whoever may write either could do as the
//! user, or as root. So each file, its directory and all above it have to belong to this account
//! or to root, and nobody else may write there.

use std::{
    fs, io,
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
};

/// Why a path is not to be obeyed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Untrusted {
    /// The path, or one above it.
    pub path: PathBuf,
    /// What is wrong with it.
    pub why: String,
    /// The command that mends it.
    pub mend: String,
}

/// In a directory with this bit others may add names, and take away none but their own.
const STICKY: u32 = 0o1000;

/// Looks at a path that is there, and at every directory above it. A link counts as what it points
/// to, and its own directories count too.
///
/// # Errors
/// If it cannot be looked at.
pub fn look(path: &Path) -> io::Result<Result<(), Untrusted>> {
    let full = std::path::absolute(path)?;
    let real = full.canonicalize()?;
    for (number, part) in real.ancestors().enumerate() {
        if let Err(untrusted) = one(part, number > 0)? {
            return Ok(Err(untrusted));
        }
    }
    // The directories that were named: who may write there could point elsewhere tomorrow.
    for part in full.ancestors().skip(1) {
        if let Err(untrusted) = one(part, true)? {
            return Ok(Err(untrusted));
        }
    }
    Ok(Ok(()))
}

fn one(path: &Path, is_above: bool) -> io::Result<Result<(), Untrusted>> {
    let facts = fs::metadata(path)?;
    let own = rustix::process::geteuid().as_raw();
    let shown = path.display();
    let untrusted =
        |why: String, mend: String| Ok(Err(Untrusted { path: path.to_path_buf(), why, mend }));
    if facts.uid() != own && facts.uid() != 0 {
        let why = format!("it belongs to {}", account(facts.uid()));
        return untrusted(why, format!("chown {} {shown}", account(own)));
    }
    let others = facts.mode() & 0o022;
    if others != 0 && !(is_above && facts.mode() & STICKY != 0) {
        let who = match others {
            0o020 => "its group",
            0o002 => "everybody",
            _ => "its group and everybody",
        };
        let why = format!("{who} can write to it (mode {:o})", facts.mode() & 0o7777);
        return untrusted(why, format!("chmod go-w {shown}"));
    }
    Ok(Ok(()))
}

/// The name of an account, or its number.
fn account(uid: u32) -> String {
    let user = uzers::get_user_by_uid(uid);
    user.map_or_else(|| uid.to_string(), |user| user.name().to_string_lossy().into_owned())
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{PermissionsExt, chown, symlink};

    use super::*;

    fn mode(path: &Path, mode: u32) {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("chmod");
    }

    #[test]
    fn what_others_may_write_is_not_obeyed_wherever_it_stands() {
        let folder = tempfile::tempdir().expect("a directory");
        let (above, file) = (folder.path().join("a"), folder.path().join("a/plan.toml"));
        fs::create_dir(&above).expect("makes");
        fs::write(&file, "x").expect("writes");
        mode(&above, 0o755);
        mode(&file, 0o644);
        assert_eq!(look(&file).expect("looks"), Ok(()));
        for (path, bits, mended) in
            [(&file, 0o664, 0o644), (&file, 0o646, 0o644), (&above, 0o777, 0o755)]
        {
            mode(path, bits);
            let untrusted = look(&file).expect("looks").expect_err("not obeyed");
            assert_eq!(&untrusted.path, path);
            assert_eq!(untrusted.mend, format!("chmod go-w {}", path.display()));
            mode(path, mended);
        }
        mode(&above, 0o1777);
        assert_eq!(look(&file).expect("looks"), Ok(()), "others may add there, and no more");
        mode(&above, 0o755);
        // By a link as well, whose own directory counts too.
        let link = folder.path().join("b");
        fs::create_dir(&link).expect("makes");
        symlink(&file, link.join("plan.toml")).expect("links");
        assert_eq!(look(&link.join("plan.toml")).expect("looks"), Ok(()));
        mode(&link, 0o775);
        assert_eq!(
            look(&link.join("plan.toml")).expect("looks").expect_err("not obeyed").path,
            link
        );
        if rustix::process::geteuid().is_root() {
            mode(&link, 0o755);
            chown(&file, Some(12_345), None).expect("chown");
            let untrusted = look(&file).expect("looks").expect_err("not obeyed");
            assert_eq!(untrusted.why, "it belongs to 12345");
        }
    }
}
