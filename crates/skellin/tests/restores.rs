//! Restores that are killed, interrupted, or short of room, by the command.

use crate::world;

use std::{
    fs,
    os::unix::fs::{MetadataExt, PermissionsExt, chown},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use rustix::process::{Pid, Signal, kill_process};
use world::{
    World,
    common::{assert_same, content, listing, settle, write},
};

/// Directories with modes, owners and times of their own, files in them, some with two names.
fn station() -> World {
    let world = World::new();
    let ridge = world.path("ridge");
    let is_root = rustix::process::geteuid().is_root();
    for number in 0..60u64 {
        let folder = ridge.join(format!("{}/{}", number % 7, number % 20));
        for file in 0..6 {
            write(&folder.join(format!("{number}-{file}")), content(2 * number + file, 9000));
        }
        if number % 9 == 0 {
            fs::hard_link(folder.join(format!("{number}-0")), folder.join(format!("{number}-z")))
                .unwrap();
        }
    }
    settle(&ridge);
    let mut folders: Vec<PathBuf> = listing(&ridge).into_keys().map(|p| ridge.join(p)).collect();
    folders.retain(|path| path.is_dir());
    // Those below first: to change what is in one changes its time.
    folders.sort_by_key(|path| std::cmp::Reverse(path.components().count()));
    for (number, folder) in folders.iter().enumerate() {
        let mode = [0o755, 0o750, 0o711, 0o2775][number % 4];
        if is_root {
            chown(folder, Some(1000 + number as u32 % 3), Some(100)).unwrap();
        }
        fs::set_permissions(folder, fs::Permissions::from_mode(mode)).unwrap();
        let then = std::time::UNIX_EPOCH + Duration::new(1_600_000_000 + number as u64, 5);
        fs::File::open(folder).unwrap().set_modified(then).unwrap();
    }
    world.usual_plan("");
    world.done(&["run", "readings"]);
    world
}

fn start(world: &World, to: &Path) -> Child {
    let to = to.to_str().unwrap();
    let mut command = world.command(&["restore", "readings@newest", "--to", to, "--quiet"]);
    command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

fn entries(root: &Path) -> usize {
    let mut count = 0;
    let mut stack = vec![root.to_path_buf()];
    while let Some(folder) = stack.pop() {
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            count += 1;
            if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                stack.push(entry.path());
            }
        }
    }
    count
}

/// Ends a restore once there are so many entries; whether it was still at work.
fn end_at(world: &World, to: &Path, wanted: usize, signal: Signal) -> bool {
    let mut child = start(world, to);
    let deadline = Instant::now() + Duration::from_secs(30);
    while entries(to) < wanted && child.try_wait().unwrap().is_none() {
        assert!(Instant::now() < deadline, "the restore hangs");
    }
    let _ = kill_process(Pid::from_child(&child), signal);
    let status = child.wait().unwrap();
    if signal == Signal::TERM {
        assert!([Some(0), Some(143)].contains(&status.code()), "{status}");
    }
    status.code() != Some(0)
}

fn leftovers(root: &Path) -> Vec<PathBuf> {
    let all = listing(root).into_keys();
    all.filter(|path| path.to_string_lossy().contains(".skellin-")).collect()
}

#[test]
fn a_killed_restore_is_finished_by_the_next_in_every_mode() {
    let world = station();
    let all = entries(&world.path("ridge"));
    let mut killed = 0;
    for (number, existing) in
        ["leave", "replace", "rename"].into_iter().cycle().enumerate().take(12)
    {
        let back = world.path(&format!("back-{number}"));
        killed += usize::from(end_at(&world, &back, 2 + number * all / 12, Signal::KILL));
        // A stranger's directory of the same look is not touched.
        let other = back.join(".skellin-00112233445566778899");
        write(&other.join("mine"), "mine");
        write(&other.join("unfinished"), "notes of mine\n");
        fs::set_permissions(&other, fs::Permissions::from_mode(0o700)).unwrap();
        let to = back.to_str().unwrap();
        let said =
            world.output(&["restore", "readings@newest", "--to", to, "--existing", existing]);
        assert_eq!(said.status.code(), Some(0), "{number}");
        assert_eq!(fs::read(other.join("mine")).unwrap(), b"mine");
        assert!(other.join("unfinished").exists());
        fs::remove_dir_all(&other).unwrap();
        assert_eq!(leftovers(&back), Vec::<PathBuf>::new(), "{number} {existing}");
        if existing == "rename" {
            let folders = |root: &Path| {
                let all = listing(root).into_iter().filter(|(path, _)| root.join(path).is_dir());
                all.map(|(path, facts)| (path, facts.mode, facts.owner, facts.modified))
                    .collect::<Vec<_>>()
            };
            assert_eq!(folders(&world.path("ridge")), folders(&back.join("ridge")), "{number}");
        } else {
            assert_same(&world.path("ridge"), &back.join("ridge"));
        }
        fs::remove_dir_all(&back).unwrap();
    }
    assert!(killed >= 6, "only {killed} of 12 were killed at work");
}

#[test]
fn an_interrupted_restore_leaves_no_directory_half_dressed_and_is_finished_by_the_next() {
    let world = station();
    let all = entries(&world.path("ridge"));
    let dressed: Vec<_> = listing(&world.path("ridge")).into_iter().collect();
    let mut interrupted = 0;
    for number in 0..6 {
        let back = world.path(&format!("back-{number}"));
        interrupted += usize::from(end_at(&world, &back, 2 + number * all / 6, Signal::TERM));
        assert_eq!(leftovers(&back), Vec::<PathBuf>::new(), "{number}");
        for (path, facts) in &dressed {
            let there = fs::symlink_metadata(back.join("ridge").join(path));
            if let Ok(there) = there.as_ref()
                && there.is_dir()
            {
                let is = (there.mode() & 0o7777, (there.uid(), there.gid()), there.mtime());
                assert_eq!(is, (facts.mode, facts.owner, facts.modified.0), "{}", path.display());
            }
        }
        world.done(&["restore", "readings@newest", "--to", back.to_str().unwrap()]);
        assert_same(&world.path("ridge"), &back.join("ridge"));
        fs::remove_dir_all(&back).unwrap();
    }
    assert!(interrupted >= 3, "only {interrupted} of 6 were interrupted at work");
}

#[test]
fn two_restores_at_once_leave_each_other_alone() {
    let world = station();
    let back = world.path("back");
    let both = [start(&world, &back), start(&world, &back)];
    for mut child in both {
        assert_eq!(child.wait().unwrap().code(), Some(0));
    }
    assert_eq!(leftovers(&back), Vec::<PathBuf>::new());
    let (a, b) = (listing(&world.path("ridge")), listing(&back.join("ridge")));
    assert!(a.keys().eq(b.keys()));
    assert!(a.iter().all(|(path, facts)| facts.content == b[path].content));
}

#[test]
fn replacing_with_little_room_is_told_before_and_done_in_the_order_that_fits() {
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_MOUNTS").is_some() {
        return;
    }
    let world = World::new();
    const MIB: usize = 1 << 20;
    // In the order of their names the second does not fit before the third has given room.
    for (name, size) in [("a", 4 * MIB), ("b", 5 * MIB), ("c", MIB)] {
        write(&world.path(&format!("ridge/{name}")), content(size as u64, size));
    }
    settle(&world.path("ridge"));
    world.usual_plan("");
    world.done(&["run", "readings"]);
    let disk = world.path("disk");
    fs::create_dir(&disk).unwrap();
    let inside = |more: &str| {
        let skellin = env!("CARGO_BIN_EXE_skellin");
        let line = format!(
            "mount -t tmpfs -o size=13m none {disk} && mkdir {disk}/ridge && cd {disk}/ridge && head -c 2M /dev/urandom > a && head -c 5M /dev/urandom > b && head -c 4M /dev/urandom > c && cd / && {skellin} restore readings@newest --to {disk} --existing replace {more} && diff -r {disk}/ridge {ridge}",
            disk = disk.display(),
            ridge = world.path("ridge").display()
        );
        let mut command = Command::new("unshare");
        command.args(["--mount", "sh", "-c", &line]);
        for (name, value) in world.command(&[]).get_envs() {
            command.env(name, value.unwrap());
        }
        let output = command.output().unwrap();
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        (output.status.code().unwrap(), said, String::from_utf8_lossy(&output.stdout).into_owned())
    };
    let (_, said, _) = inside("--dry-run");
    assert!(said.contains("this needs") && !said.contains("not everything fits"), "{said}");
    let (status, said, out) = inside("");
    assert_eq!(status, 0, "{said} {out}");
    assert!(said.contains("this needs"), "{said}");
}
