//! What starts runs while nobody looks: the steward, timers of systemd, a line of cron, and commands
//! around a run, each as real processes.

use crate::{sshd, world};

use std::{
    fs,
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant, SystemTime},
};

use world::{
    World,
    common::{content, write},
};

/// Waits until something holds.
fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let deadline = Instant::now() + Duration::from_secs(60);
    while !holds() {
        assert!(Instant::now() < deadline, "waited for {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A plan over a source of its own, its file a day old, due at once.
fn plan(world: &World, name: &str, more: &str) {
    let source = world.path(&format!("ridge/{name}"));
    write(&source.join("gauge.csv"), content(1, 9000));
    let text = format!(
        "sources = [\"{}\"]\nstore = \"oak\"\n[schedule]\nrun = \"every 4 days\"\n{more}",
        source.display()
    );
    world.plan(name, &text);
    let file = world.path(&format!("config/plans/{name}.toml"));
    let then = SystemTime::now() - Duration::from_secs(86_400);
    fs::File::options().write(true).open(file).unwrap().set_modified(then).unwrap();
}

/// A service that is ended with the test.
struct Service(Child);

impl Service {
    fn start(world: &World) -> Self {
        let log = fs::File::options().create(true).append(true).open(world.path("steward.log"));
        let child = world.command(&["steward"]).stderr(log.unwrap()).stdout(Stdio::null()).spawn();
        Self(child.unwrap())
    }

    fn signal(&self, signal: rustix::process::Signal) {
        let process = rustix::process::Pid::from_child(&self.0);
        rustix::process::kill_process(process, signal).unwrap();
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn snapshots(world: &World, plan: &str) -> usize {
    let (_, history) = world.json(&["history", plan]);
    history["snapshots"].as_array().map_or(0, Vec::len)
}

fn entries(world: &World, plan: &str) -> Vec<serde_json::Value> {
    let (_, journal) = world.json(&["journal", plan]);
    journal["entries"].as_array().unwrap().clone()
}

#[test]
fn a_killed_steward_is_started_again_and_makes_up_the_rest() {
    use rustix::process::Signal;
    let world = World::new();
    let (marks, go) = (world.path("marks"), world.path("go"));
    // The second in the middle: it waits for a file, and has something to leave.
    let around = format!(
        "[[around]]\nenter = [\"sh\", \"-c\", \"echo enter >>{0}; until test -e {1}; do sleep 0.05; done\"]\nleave = [\"sh\", \"-c\", \"echo leave $SKELLIN_STATUS >>{0}\"]\n",
        marks.display(),
        go.display()
    );
    plan(&world, "gateway", "");
    plan(&world, "readings", &around);
    plan(&world, "ringing", "");
    let mut first = Service::start(&world);
    until("run of readings", || marks.exists());
    // Its run ends with it, gently: what was entered is left.
    first.signal(Signal::KILL);
    first.0.wait().unwrap();
    let said = || fs::read_to_string(&marks).unwrap();
    until("the end of the run", || said().contains("leave interrupted"));
    until("its entry", || entries(&world, "readings")[0]["status"] == "interrupted");
    assert_eq!(snapshots(&world, "readings"), 0);
    write(&go, "");
    // What was cut off is made up for, beside what had not begun.
    let mut second = Service::start(&world);
    until("all three", || {
        ["gateway", "readings", "ringing"].iter().all(|plan| snapshots(&world, plan) == 1)
    });
    assert_eq!(entries(&world, "readings").len(), 2);
    // What is asked for is started within a minute, and a second steward is refused.
    let tried = world.done(&["timers", "try", "readings", "--crontab", "none"]);
    assert!(tried.contains("readings: done"), "{tried}");
    assert_eq!((snapshots(&world, "readings"), entries(&world, "readings").len()), (2, 3));
    let (status, said) = world.fail(&["steward"]);
    assert!(status == 6 && said.contains("a steward is already running"), "{status}: {said}");
    // A plan that is added is found without being told of, and one with a mistake is left out aloud.
    plan(&world, "added", "");
    until("the plan that was added", || snapshots(&world, "added") == 1);
    world.plan("added", "sorces = []\n");
    let log = || fs::read_to_string(world.path("steward.log")).unwrap();
    until("a word about the mistake", || log().contains("added has mistakes"));
    second.signal(Signal::HUP);
    until("files read anew", || log().matches("watching 3 plans").count() > 1);
    let begun = Instant::now();
    second.signal(Signal::TERM);
    let status = second.0.wait().unwrap();
    assert_eq!(status.code(), Some(143));
    assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
    for name in ["gateway", "ringing"] {
        assert_eq!(entries(&world, name).len(), 1, "{name} was run once");
    }
}

#[test]
fn a_run_that_is_killed_owes_its_leave_and_whoever_comes_next_makes_up_for_it() {
    let world = World::new();
    let marks = world.path("marks");
    let around = format!(
        "[[around]]\nenter = [\"sh\", \"-c\", \"echo enter >>{0}; sleep 60\"]\nleave = [\"sh\", \"-c\", \"echo leave >>{0}\"]\n",
        marks.display()
    );
    plan(&world, "readings", &around);
    let mut run = world.command(&["run", "readings"]).spawn().unwrap();
    until("the command", || fs::read(&marks).is_ok_and(|marks| marks == b"enter\n"));
    run.kill().unwrap();
    run.wait().unwrap();
    assert_eq!(fs::read_to_string(&marks).unwrap(), "enter\n");
    let (_, text) = world.run(&["doctor"]);
    assert!(text.contains("leave") && text.contains("skellin due --run"), "{text}");
    // The plan itself is not run again here.
    world.plan("readings", "sources = [\"/srv\"]\nstore = \"oak\"\n");
    world.output(&["due", "--run"]);
    assert_eq!(fs::read_to_string(&marks).unwrap(), "enter\nleave\n");
    world.output(&["due", "--run"]);
    assert_eq!(fs::read_to_string(&marks).unwrap(), "enter\nleave\n", "once is enough");
}

#[test]
fn an_interrupted_run_waits_for_no_command() {
    let world = World::new();
    let marks = world.path("marks");
    let around = format!(
        "[[around]]\nenter = [\"sh\", \"-c\", \"echo enter >>{0}; sleep 60\"]\nleave = [\"sh\", \"-c\", \"echo leave >>{0}\"]\n",
        marks.display()
    );
    plan(&world, "readings", &around);
    for (signal, code) in
        [(rustix::process::Signal::TERM, 143), (rustix::process::Signal::INT, 130)]
    {
        let _ = fs::remove_file(&marks);
        let mut run = world.command(&["run", "readings"]).stdout(Stdio::null()).spawn().unwrap();
        // Written, and not only opened: the shell could be ended in between.
        until("the command", || fs::read(&marks).is_ok_and(|marks| marks == b"enter\n"));
        let begun = Instant::now();
        rustix::process::kill_process(rustix::process::Pid::from_child(&run), signal).unwrap();
        assert_eq!(run.wait().unwrap().code(), Some(code));
        // Its command would sleep for a minute.
        assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
        assert_eq!(fs::read_to_string(&marks).unwrap(), "enter\nleave\n");
    }
}

#[test]
fn a_plan_that_was_broken_by_an_edit_is_told_of_before_it_is_late() {
    let world = World::new();
    let told = world.path("told");
    let board = format!(
        "[board]\ncommand = [\"sh\", \"-c\", \"echo $SKELLIN_MESSAGE >>{}\"]\n",
        told.display()
    );
    write(&world.path("config/channels.toml"), board);
    plan(&world, "readings", "[tell]\nfailure = [\"board\"]\n");
    world.done(&["due", "--run"]);
    assert!(!told.exists());
    let file = world.path("config/plans/readings.toml");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replace("sources =", "sorces =")).unwrap();
    let (status, said) = world.fail(&["due", "--run"]);
    assert!(status == 2 && said.contains("has mistakes and does not run"), "{status}: {said}");
    let (status, said) = world.fail(&["due", "--run", "--quiet"]);
    assert_eq!((status, said.as_str()), (2, ""));
    let said = fs::read_to_string(&told).unwrap();
    assert!(said.contains("the plan has no sources") && said.lines().count() == 1, "{said}");
    fs::write(&file, text).unwrap();
    world.done(&["run", "readings"]);
    let said = fs::read_to_string(&told).unwrap();
    assert!(said.contains("failed before and has a new snapshot now"), "{said}");
}

#[test]
fn a_mistake_in_hosts_keeps_no_late_plan_from_being_told_of() {
    let world = World::new();
    let told = world.path("told");
    let board = format!(
        "[board]\ncommand = [\"sh\", \"-c\", \"echo $SKELLIN_EVENT $SKELLIN_PLAN >>{}\"]\n",
        told.display()
    );
    write(&world.path("config/channels.toml"), board);
    write(&world.path("config/hosts.toml"), "[mast]\nport = \"tower\"\n");
    plan(&world, "mast", "[tell]\nlate = [\"board\"]\n");
    let file = world.path("config/plans/mast.toml");
    let text = fs::read_to_string(&file).unwrap();
    let source = format!("\"{}\"", world.path("ridge/mast").display());
    let text = text.replace(&source, "\"sftp://mast/records\"");
    fs::write(&file, text.replace("every 4 days", "every 90 minutes")).unwrap();
    let then = SystemTime::now() - Duration::from_secs(86_400);
    fs::File::options().write(true).open(file).unwrap().set_modified(then).unwrap();
    let (status, said) = world.fail(&["due", "--run"]);
    assert!(status == 2 && said.contains("hosts.toml"), "{status}: {said}");
    assert_eq!(fs::read_to_string(&told).unwrap(), "late mast\n");
}

#[test]
fn a_directory_of_plans_that_comes_later_is_watched() {
    let world = World::new();
    fs::remove_dir_all(world.path("config/plans")).unwrap();
    let _steward = Service::start(&world);
    let log = || fs::read_to_string(world.path("steward.log")).unwrap_or_default();
    until("the steward", || log().contains("watching 0 plans"));
    let begun = Instant::now();
    plan(&world, "readings", "");
    until("its first run", || snapshots(&world, "readings") == 1);
    // Without being told of the directory the steward looks every 30 s.
    assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
    // What comes into the directory is noticed, too, not only that it came.
    let begun = Instant::now();
    plan(&world, "ringing", "");
    until("the second plan's first run", || snapshots(&world, "ringing") == 1);
    assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
}

#[test]
fn without_a_journal_what_was_run_is_not_run_again_and_again() {
    let world = World::new();
    plan(&world, "readings", "");
    world.done(&["due", "--run"]);
    assert_eq!(snapshots(&world, "readings"), 1);
    // The journal cannot be opened any more, as on a disk that is full.
    for side in ["", "-wal", "-shm"] {
        let _ = fs::remove_file(world.path(&format!("state/journal.sqlite{side}")));
    }
    fs::create_dir(world.path("state/journal.sqlite")).unwrap();
    let (status, said) = world.fail(&["due", "--run"]);
    assert!(status == 0 && said.contains("nothing is recorded"), "{status}: {said}");
    assert_eq!(snapshots(&world, "readings"), 1, "its lock tells when it was run");
    world.done(&["run", "readings"]);
    assert_eq!(snapshots(&world, "readings"), 2, "a run is made all the same");
}

#[test]
fn a_state_directory_without_room_keeps_no_run_from_being_made() {
    if std::env::var_os("SKELLIN_TESTS_WITHOUT_MOUNTS").is_some() {
        return;
    }
    let world = World::new();
    plan(&world, "readings", "[[around]]\nenter = [\"true\"]\nleave = [\"true\"]\n");
    let state = world.path("state");
    fs::create_dir_all(&state).unwrap();
    // A disk of its own in a name space of its own, filled to the last byte and the last inode.
    let script = format!(
        "mount -t tmpfs -o size=16k,nr_inodes=2 none {0} && {{ head -c 64k /dev/zero >{0}/full; true; }} 2>/dev/null && exec \"$0\" \"$@\"",
        state.display()
    );
    let run = world.command(&["run", "readings"]);
    let mut inside = Command::new("unshare");
    inside.args(["--mount", "sh", "-c", &script]).arg(run.get_program()).args(run.get_args());
    inside.env_clear().envs(run.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let output = inside.output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(0), "{said}");
    for part in ["nothing is recorded", "without a lock", "its `leave` commands are not run"] {
        assert!(said.contains(part), "{part}: {said}");
    }
    assert_eq!(snapshots(&world, "readings"), 1);
}

#[test]
fn commands_run_on_another_host_word_by_word_and_are_ended_there() {
    let world = World::new();
    let server = sshd::Sshd::start();
    let hosts = format!(
        "[mast]\naddress = \"127.0.0.1\"\nport = {}\nuser = \"{}\"\nidentity = \"{}\"\nknown-hosts = \"{}\"\n",
        server.port,
        sshd::user(),
        server.path("client").display(),
        world.path("known").display()
    );
    write(&world.path("config/hosts.toml"), hosts);
    let marks = world.path("marks");
    let around = |enter: &str, more: &str| {
        format!(
            "[[around]]\nenter = [\"sh\", \"-c\", \"{enter}\", \"it's\", \"a $HOME b\"]\nleave = [\"sh\", \"-c\", \"echo leave $SKELLIN_STATUS >>{0}\"]\non = \"mast\"\n{more}\n",
            marks.display()
        )
    };
    let say = format!("echo $SKELLIN_PLAN: $0 $1 >>{}; echo on the mast", marks.display());
    plan(&world, "readings", &around(&say, ""));
    // A host whose key nobody has looked at is not spoken to, and nothing is read.
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(status == 1 && said.contains("unknown host key"), "{status}: {said}");
    let source = format!("sftp://mast{}", server.path("data").display());
    world.done(&["store", "reach", &source, "--accept-host-key"]);
    world.done(&["run", "readings"]);
    let said = fs::read_to_string(&marks).unwrap();
    assert_eq!(said, "readings: it's a $HOME b\nleave read\n");
    let (_, run) = world.json(&["journal", "--run", "2"]);
    let enter = &run["steps"][1];
    assert_eq!((&enter["kind"], &enter["code"]), (&"enter".into(), &0.into()), "{run}");
    assert!(enter["output"].as_str().unwrap().contains("on the mast"), "{run}");
    assert!(enter["subject"].as_str().unwrap().contains("(on mast)"), "{run}");
    // What fails there fails the run; what hangs there is given up.
    plan(&world, "readings", &around("exit 7", ""));
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(status == 1 && said.contains("exit status 7"), "{status}: {said}");
    plan(&world, "readings", &around("sleep 60", "timeout = \"1 second\""));
    let begun = Instant::now();
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(status == 1 && said.contains("timed out after 1 s"), "{status}: {said}");
    assert!(begun.elapsed() < Duration::from_secs(20), "{:?}", begun.elapsed());
    assert_eq!(fs::read_to_string(&marks).unwrap().matches("leave failed").count(), 2);
}

#[test]
fn a_plan_is_shown_with_its_next_five_moments() {
    let world = World::new();
    plan(&world, "readings", "");
    let file = world.path("config/plans/readings.toml");
    let text = fs::read_to_string(&file).unwrap();
    let cron = text.replace("run = \"every 4 days\"", "run = \"0 3 13 * fri\"");
    fs::write(&file, format!("zone = \"Europe/Oslo\"\n{cron}")).unwrap();
    let (_, shown) = world.json(&["plan", "show", "readings"]);
    let words = shown["schedule"].as_str().unwrap();
    assert!(words.contains(" or ") && words.contains("on Fri"), "{words}");
    let next = shown["next"].as_array().unwrap();
    assert_eq!(next.len(), 5, "{shown}");
    assert!(next.windows(2).all(|two| two[0].as_str() < two[1].as_str()), "{shown}");
    let text = world.done(&["plan", "show", "readings"]);
    assert!(text.contains("in Europe/Oslo"), "{text}");
    let often = fs::read_to_string(&file).unwrap().replace("0 3 13 * fri", "* * * * *");
    fs::write(&file, often).unwrap();
    let (status, text) = world.run(&["plan", "check"]);
    assert!(status == 0 && text.contains("1440 times a day"), "{status}: {text}");
}

#[test]
fn runs_into_one_store_queue_and_one_plan_never_runs_twice() {
    let world = World::new();
    let (marks, go) = (world.path("marks"), world.path("go"));
    let around = format!(
        "[[around]]\nenter = [\"sh\", \"-c\", \"echo enter >>{}; until test -e {}; do sleep 0.05; done\"]\n",
        marks.display(),
        go.display()
    );
    plan(&world, "readings", &around);
    plan(&world, "ringing", "");
    let mut run = world.command(&["run", "readings"]).stdout(Stdio::null()).spawn().unwrap();
    until("the command", || marks.exists());
    let (status, said) = world.fail(&["run", "readings"]);
    assert!(status == 6 && said.contains("already running"), "{status}: {said}");
    let waits =
        world.command(&["run", "ringing"]).stderr(Stdio::piped()).stdout(Stdio::null()).spawn();
    let waits = waits.unwrap();
    until("the one that waits", || entries(&world, "ringing").len() == 1);
    let (_, due) = world.json(&["due"]);
    assert!(due["plans"].as_array().unwrap().iter().all(|plan| plan["running"] == true), "{due}");
    write(&go, "");
    assert!(run.wait().unwrap().success());
    let output = waits.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && said.contains("is in use"), "{said}");
    let (_, journal) = world.json(&["journal", "--run", "2"]);
    assert_eq!(journal["steps"][0]["kind"], "wait", "{journal}");
}

#[test]
fn units_of_systemd_are_verified_found_to_differ_and_removed_without_a_trace() {
    let world = World::new();
    plan(&world, "gateway", "");
    for (name, schedule) in [
        ("readings", "daily at 21:40"),
        ("ringing", "*/20 8-18 * * mon-fri"),
        ("monthly", "monthly on 31 at 05:00"),
        ("either", "0 3 13 * fri"),
    ] {
        let source = world.path("ridge/gateway").display().to_string();
        world.plan(name, &format!("sources = [\"{source}\"]\nstore = \"oak\"\nzone = \"Europe/Oslo\"\n[schedule]\nrun = \"{schedule}\"\n"));
    }
    let folder = world.path("units");
    fs::create_dir_all(&folder).unwrap();
    write(&folder.join("skellin-other.service"), "[Unit]\nDescription=not ours\n");
    let at = folder.display().to_string();
    let (status, said) = world.fail(&["timers", "install", "--unit-dir", &at]);
    assert!(status == 7 && said.contains("nothing was written"), "{status}: {said}");
    let (status, _) = world.run(&["timers", "show", "--unit-dir", &at]);
    assert_eq!(status, 1);
    let told = world.done(&["timers", "install", "--unit-dir", &at, "--yes"]);
    assert!(
        told.contains("OnCalendar=*-*-* 21:40:00 Europe/Oslo") && told.contains("Runs as"),
        "{told}"
    );
    let ours = || -> Vec<String> {
        let names = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name());
        let mut names: Vec<String> = names
            .map(|name| name.into_string().unwrap())
            .filter(|name| !name.contains("other"))
            .collect();
        names.sort();
        names
    };
    // An interval stands in no calendar: the one that looks does it.
    assert_eq!(ours().len(), 10, "{:?}", ours());
    verify(&folder, &ours());
    world.done(&["timers", "show", "--unit-dir", &at]);
    // A plan that is gone, and one that has changed.
    fs::remove_file(world.path("config/plans/monthly.toml")).unwrap();
    let file = world.path("config/plans/readings.toml");
    let text = fs::read_to_string(&file).unwrap().replace("21:40", "22:10");
    fs::write(&file, text).unwrap();
    let (status, shown) = world.json(&["timers", "show", "--unit-dir", &at]);
    let state = |name: &str| {
        let timers = shown["timers"].as_array().unwrap();
        timers.iter().find(|timer| timer["name"] == name).unwrap()["state"].clone()
    };
    assert_eq!(status, 1);
    assert_eq!(state("skellin-plan-monthly.timer"), "stray");
    assert_eq!(state("skellin-plan-readings.timer"), "differs");
    assert_eq!(state("skellin-look.timer"), "fine");
    world.done(&["timers", "install", "--unit-dir", &at, "--yes"]);
    assert_eq!(ours().len(), 8);
    world.done(&["timers", "show", "--unit-dir", &at]);
    world.done(&["timers", "install", "--unit-dir", &at, "--yes", "--steward"]);
    assert_eq!(ours(), ["skellin-steward.service"]);
    verify(&folder, &ours());
    world.done(&["timers", "show", "--unit-dir", &at]);
    world.done(&["timers", "remove", "--unit-dir", &at]);
    assert_eq!(ours(), [""; 0]);
    assert!(folder.join("skellin-other.service").exists());
    // What is there under a name of ours and is not ours is not written over.
    write(&folder.join("skellin-look.timer"), "[Unit]\nDescription=not ours\n");
    let (status, said) = world.fail(&["timers", "install", "--unit-dir", &at, "--yes"]);
    assert!(status == 2 && said.contains("not written by Skellin"), "{status}: {said}");
}

/// As systemd itself reads them.
fn verify(folder: &Path, names: &[String]) {
    let mut verify = Command::new("systemd-analyze");
    verify.args(["verify", "--man=no", "--recursive-errors=no"]);
    let output = verify.args(names.iter().map(|name| folder.join(name))).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && !said.contains("skellin"), "{said}");
}

#[test]
fn a_line_of_cron_comes_and_goes_and_starts_what_is_asked_for() {
    let world = World::new();
    plan(&world, "readings", "");
    let crontab = world.path("crontab");
    let others = "MAILTO=\"\"\n17 3 * * * /usr/local/bin/count-gulls\n";
    write(&crontab, others);
    let at = crontab.display().to_string();
    let begun = Instant::now();
    let (status, said) = world.fail(&["timers", "try", "readings", "--crontab", &at]);
    assert!(status == 1 && said.contains("nothing is installed to start"), "{said}");
    assert!(begun.elapsed() < Duration::from_secs(30), "{:?}", begun.elapsed());
    assert!(!world.path("state/wishes/readings").exists());
    world.done(&["timers", "install", "--crontab", &at, "--yes"]);
    // It is all there, and starts something only where a daemon reads it.
    let (status, shown) = world.run(&["timers", "show", "--crontab", &at]);
    let daemon = fs::read_dir("/proc").unwrap().flatten().any(|process| {
        let name = fs::read_to_string(process.path().join("comm")).unwrap_or_default();
        ["cron\n", "crond\n"].contains(&name.as_str())
    });
    assert_eq!((status, shown.contains("not running")), (i32::from(!daemon), !daemon), "{shown}");
    let text = fs::read_to_string(&crontab).unwrap();
    assert!(text.starts_with(others), "{text}");
    // As cron would: a shell runs what follows the five stars, with an environment of almost nothing.
    let line = text.lines().find(|line| line.starts_with("* * * * * ")).unwrap();
    let command = line.trim_start_matches("* * * * * ").replace("\\%", "%");
    let cron = || {
        let output = Command::new("sh").args(["-c", &command]).env_clear().output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    };
    cron();
    cron();
    assert_eq!(snapshots(&world, "readings"), 1, "it was due once");
    let asked = world.command(&["timers", "try", "readings", "--crontab", &at]);
    let mut asked = asked;
    let asked = asked.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    until("the wish", || world.path("state/wishes/readings").exists());
    cron();
    let output = asked.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success() && said.contains("readings: done"), "{said}");
    assert_eq!(snapshots(&world, "readings"), 2);
    world.done(&["timers", "remove", "--crontab", &at]);
    assert_eq!(fs::read_to_string(&crontab).unwrap(), others);
}
