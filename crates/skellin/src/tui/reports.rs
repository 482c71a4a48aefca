//! What the worker tells, and how that changes the state.

use skellin_engine::{Event, Work as Recorded};

use super::{
    app::{App, Step},
    keys::Place,
    lanes::{Known, Lane, Work},
    model::{Cursor, List, Study},
    panels::TroublePanel,
    watch::Changed,
    worker::{Group, JobEnd, Report, Request, Trouble},
};

/// Stores are listed again after this time, in milliseconds.
const RELIST: i64 = 120_000;
/// So many exceptions of a run under way are shown.
const MOST_SHOWN: usize = 200;

impl App {
    pub fn report(&mut self, report: Report) -> Step {
        let step = self.take(report);
        self.settle();
        if step == Step::Close { step } else { self.press_waiting() }
    }

    fn take(&mut self, report: Report) -> Step {
        match report {
            Report::AllFacts { store } => self.model.filling.all_read(store),
            Report::Role { store, restore_only } => {
                match restore_only {
                    true => self.model.restore_only.insert(store),
                    false => self.model.restore_only.remove(&store),
                };
            }
            Report::Listed { store, groups } => {
                self.model.filling.not_read(&store);
                self.take_listing(&store, groups);
                if self.model.only_restores() && !matches!(self.model.cursor, Cursor::Was(_)) {
                    self.model.put_cursor(Cursor::Is);
                }
                self.model.look_into_opened();
            }
            Report::Facts { store, facts } => {
                for lane in self.model.lanes.iter_mut().filter(|lane| lane.store == store) {
                    lane.take_facts(&facts);
                }
            }
            Report::Kept { store, kept } => {
                for lane in self.model.lanes.iter_mut().filter(|lane| lane.store == store) {
                    lane.take_kept(&kept);
                }
            }
            Report::Rows { ticket, path, batch, complete } => {
                if ticket == self.model.ticket {
                    self.model.tree.take(path, batch, complete);
                    if complete && !self.model.tree.arrangement().is_plain() {
                        self.model.arrange_tree();
                    }
                    self.model.study_versions();
                }
            }
            Report::FirstRows { ticket, path, batch } => {
                if ticket == self.model.ticket {
                    self.model.tree.take_first(&path, batch);
                }
            }
            Report::NoRows { ticket, path, trouble } => {
                if ticket == self.model.ticket {
                    if let Some(lane) =
                        self.model.lanes.get_mut(self.model.lane).filter(|_| trouble.damage)
                    {
                        lane.damage = Some(trouble.what.clone());
                    }
                    self.model.tree.take_trouble(path, trouble);
                }
            }
            Report::Counted { number, end } => self.model.take_count(number, end),
            Report::Arranged { ticket, path, how, rows, view } => {
                if ticket == self.model.ticket {
                    self.model.tree.take_view(&path, how, rows, view);
                }
            }
            Report::Mapped { number, tiles } => self.model.take_map(number, tiles),
            Report::Versions { path, versions } => {
                if matches!(&self.model.study, Study::Going { path: wanted } if *wanted == path) {
                    self.model.study = match versions {
                        Ok(versions) => Study::Known { path, versions },
                        Err(trouble) => Study::Failed { path, trouble },
                    };
                }
            }
            Report::Journal(papers) => {
                if let Ok(papers) = &papers {
                    for lane in &mut self.model.lanes {
                        let name = lane.name.clone();
                        let of_plan = papers.iter().map(|(entry, _)| entry).filter(|entry| {
                            entry.work == Recorded::Run && entry.plan.as_ref() == Some(&name)
                        });
                        if lane.machine.is_none() {
                            lane.take_journal(of_plan, self.model.now);
                        }
                        lane.take_soundness(papers.iter().map(|(entry, _)| entry));
                    }
                }
                self.model.journal = Some(papers);
            }
            Report::Drills(drills) => self.model.drills = drills,
            Report::Examined { found, starter } => {
                self.model.findings = Some(found);
                self.model.starter = Some(starter);
            }
            Report::Foretold(fill) => self.model.filling.take_fill(*fill),
            Report::Brought { plan, newest, bringers } => {
                self.model.filling.take_brought(&plan, newest, bringers);
            }
            Report::Pinned { store, run, is_pinned, trouble } => {
                if let Some(trouble) = trouble {
                    self.fail(trouble);
                } else {
                    for lane in self.model.lanes.iter_mut().filter(|lane| lane.store == store) {
                        lane.take_pin(run, is_pinned);
                    }
                }
            }
            Report::Stores(stores) => {
                self.model.stores = Some(stores);
                self.model.look_into_opened();
            }
            Report::Configuration(Ok(configuration)) => self.model.configure(&configuration),
            Report::Configuration(Err(trouble)) => self.fail(trouble),
            Report::PlanChanged { plan, texts: Ok((was, became)) } => {
                // Whatever was asked about the plan as it was is over.
                self.panel = None;
                self.model.undo = Some((plan, was, became));
                self.model.forget_tree();
                self.model.ask(Request::Configuration);
            }
            Report::PlanChanged { plan, texts: Err(trouble) } => {
                let report = Report::PlanChanged { plan, texts: Err(trouble.clone()) };
                if self.panel_report(report).is_some() {
                    self.fail(trouble);
                }
            }
            Report::Event { job, event } => self.take_event(job, event),
            Report::Ended { job, end } => return self.take_end(job, end),
            // What a panel asked for that is not open any more is of no use to anybody.
            report @ (Report::Looked { .. }
            | Report::Found { .. }
            | Report::Differs { .. }
            | Report::Contrasted { .. }
            | Report::Explained { .. }
            | Report::Effect { .. }
            | Report::Weighed { .. }
            | Report::ReachStep { .. }
            | Report::Reached { .. }
            | Report::Local(..)
            | Report::Checked(_)
            | Report::Holds { .. }
            | Report::Passphrases { .. }
            | Report::Folders { .. }
            | Report::SecretKept(_)
            | Report::StoreStep { .. }
            | Report::StoreMade(_)
            | Report::Entry { .. }
            | Report::Told { .. }
            | Report::Saved(_)) => drop(self.panel_report(report)),
        }
        Step::GoOn
    }

    fn fail(&mut self, trouble: Trouble) {
        self.panel = Some(Box::new(TroublePanel(trouble)));
    }

    fn take_listing(&mut self, store: &str, groups: Result<Vec<Group>, Trouble>) {
        let groups = match groups {
            Ok(groups) => groups,
            Err(trouble) => {
                for lane in self.model.lanes.iter_mut().filter(|lane| lane.store == store) {
                    lane.known = Known::Trouble(trouble.clone());
                }
                return self.model.ask_passphrase_if_needed();
            }
        };
        let current = self.model.current_mark().map(|(_, mark)| mark.id);
        for lane in self.model.lanes.iter_mut().filter(|lane| lane.store == store) {
            lane.known = Known::Here;
        }
        let own = self.model.machine.clone();
        for group in groups {
            let planned = |lane: &&mut Lane| {
                let plan = lane.plan.as_ref();
                plan.is_some_and(|plan| plan.machine.as_deref().unwrap_or(&own) == group.machine)
            };
            let fits = |lane: &&mut Lane| lane.name == group.plan && lane.store == store;
            let now = self.model.now;
            let found = self.model.lanes.iter_mut().filter(fits).find(planned);
            if let Some(lane) = found {
                lane.take_marks(&group.marks, now);
                continue;
            }
            // A plan's snapshots in another store are its copies.
            let copied = |lane: &&mut Lane| lane.name == group.plan && lane.store != store;
            let newest = group.marks.iter().map(|(_, time)| *time).max();
            if let Some(lane) = self.model.lanes.iter_mut().filter(copied).find(planned) {
                let copies = newest.map(|newest| (group.marks.len(), newest));
                lane.copies.extend(copies.map(|copies| (store.to_owned(), copies)));
                continue;
            }
            let stray = self.model.lanes.iter_mut().filter(fits).find(|lane| {
                lane.plan.is_none() && lane.machine.as_deref() == Some(group.machine.as_str())
            });
            match stray {
                Some(lane) => lane.take_marks(&group.marks, now),
                None => {
                    let mut lane =
                        Lane::new(group.plan, store.to_owned(), Some(group.machine), None);
                    lane.take_marks(&group.marks, now);
                    self.model.lanes.push(lane);
                }
            }
        }
        let oldest =
            self.model.lanes.iter().filter_map(|lane| lane.marks.first()).map(|mark| mark.time);
        if let Some(oldest) = oldest.min() {
            self.model.window.cover(oldest, self.model.now);
        }
        // What was known of the path may have grown by a snapshot.
        if !matches!(self.model.study, Study::Going { .. }) {
            self.model.study = Study::None;
        }
        if self.model.place() == Place::Was
            && self.model.current_mark().map(|(_, mark)| mark.id) != current
        {
            self.model.forget_tree();
        }
        self.model.refresh();
    }

    fn take_event(&mut self, job: u64, event: Event) {
        let lane = self
            .model
            .lanes
            .iter_mut()
            .find(|lane| matches!(&lane.work, Work::Going { job: going, .. } if *going == job));
        let Some(Lane { work: Work::Going { progress, exceptions, notes, .. }, .. }) = lane else {
            let _ = self.panel_report(Report::Event { job, event });
            return;
        };
        match event {
            Event::Progress(latest) => *progress = latest,
            Event::Exception(exception) if exceptions.len() < MOST_SHOWN => {
                exceptions.push(exception);
            }
            Event::Note(note) if notes.len() < MOST_SHOWN => notes.push(note),
            Event::Waiting(waited) if notes.len() < MOST_SHOWN => notes.push(waited.to_string()),
            _ => {}
        }
    }

    fn take_end(&mut self, job: u64, end: JobEnd) -> Step {
        self.model.now = self.model.now.max(jiff::Timestamp::now().as_millisecond());
        let is_current = self.model.current_lane().is_some_and(
            |lane| matches!(&lane.work, Work::Going { job: going, .. } if *going == job),
        );
        let lane = self
            .model
            .lanes
            .iter_mut()
            .find(|lane| matches!(&lane.work, Work::Going { job: going, .. } if *going == job));
        match (lane, end) {
            (Some(lane), JobEnd::Run(result)) => {
                let (dry_run, notes) = match std::mem::take(&mut lane.work) {
                    Work::Going { dry_run, notes, .. } => (dry_run, notes),
                    _ => (false, Vec::new()),
                };
                let store = lane.store.clone();
                self.model.list = List::default();
                let is_review = dry_run && result.is_ok();
                lane.work = Work::Ended { dry_run, result, notes };
                if is_review && is_current {
                    self.model.begin_review();
                }
                if !dry_run {
                    self.model.ask(Request::Open { store, passphrase: None });
                    self.model.ask(Request::Journal);
                    self.model.ask(Request::Stores);
                    self.model.ask(Request::Examine);
                }
            }
            (_, end) => {
                let _ = self.panel_report(Report::Ended { job, end });
                self.model.ask(Request::Journal);
            }
        }
        if self.model.closing && self.under_way().is_empty() {
            return Step::Close;
        }
        Step::GoOn
    }

    /// Others have changed something: it is read again, and what is selected and open stays.
    pub fn changed(&mut self, changed: Changed) {
        match changed {
            Changed::Configuration => self.model.ask(Request::Configuration),
            Changed::Journal => {
                self.model.list_stores(false);
                self.model.ask(Request::Journal);
                self.model.ask(Request::Stores);
                // It takes a while: our own work is examined when it has ended.
                if self.under_way().is_empty() {
                    self.model.ask(Request::Examine);
                }
            }
        }
    }

    /// The time goes on. Other machines run plans as well, and nothing here tells of that: the stores
    /// are listed now and then.
    pub fn tick(&mut self, now: i64) {
        if now - self.listed > RELIST {
            self.listed = now;
            self.model.list_stores(false);
        }
        self.model.now = now;
        for lane in &mut self.model.lanes {
            lane.tick(now);
        }
        if self.model.cursor == Cursor::Is {
            self.model.window.follow(now);
        }
    }
}
