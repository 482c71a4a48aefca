//! Notices, the answers of open runs, and what may be deleted after them.

use std::{
    collections::HashSet,
    thread,
    time::{Duration, Instant},
};

use skellin_place::ObjectName;

use super::{Marks, Reclaim, ReclaimProgress, ReclaimReport, ReclaimWatch, choosing::Weighed};
use crate::{
    containers::Standing,
    error::{Result, StoreError, Unfit},
    format::{
        ids::{ContainerId, Prefix, RunId},
        signed::Machine,
    },
    mistakes::{Mistake, is_made},
    records::control::{Ack, ContainerRun, Notice},
    store::Store,
    writing::session::Session,
};

/// What has been deleted is remembered for so long: no write arrives later, and no reclaim sleeps
/// longer;
const FORGOTTEN: i64 = 90 * 24 * 3600 * 1000;
/// and written down together with what was deleted up to so long before.
const TOGETHER: i64 = 30 * 24 * 3600 * 1000;
/// So often it is looked whether open runs have answered.
const PAUSE: Duration = Duration::from_secs(1);

impl Store {
    /// The victims of notices of reclaims.
    pub(super) fn victims_of(&self, notices: &[ObjectName]) -> Result<HashSet<ContainerId>> {
        let mut victims = HashSet::new();
        for name in notices {
            match self.get_record::<Notice>(name.as_str()) {
                Ok(notice) => victims.extend(ContainerRun::spread(&notice.victims)?),
                // Torn, or resolved since.
                Err(error) if error.is_damage() => {}
                Err(error) => return Err(error),
            }
        }
        Ok(victims)
    }

    /// Puts the notice, hears every open run, and deletes what nobody needs any more.
    pub(super) fn condemn_and_delete(
        &self,
        session: &Session,
        (victims, marks): (&[Weighed], &mut Marks),
        reclaim: &Reclaim<'_>,
        watch: &dyn ReclaimWatch,
        report: &mut ReclaimReport,
    ) -> Result<()> {
        let mut ids: Vec<ContainerId> = victims.iter().map(|one| one.id).collect();
        ids.sort_unstable();
        let id = RunId::random()?;
        let notice = Notice { victims: ContainerRun::gather(&ids), damaged: None, deleted: None };
        self.put_record(&format!("notices/{id}"), &notice, &session.writing.machine)?;
        // Others may want to delete what this one relies on: theirs count, whoever was first.
        if !is_made(Mistake::OtherNoticesNotRead) {
            session.poll()?;
        }
        if is_made(Mistake::SnapshotsBeforeRuns) {
            self.refresh_index()?;
            self.mark_all(marks, &|| watch.is_cancelled())?;
        }
        let held = match is_made(Mistake::RunsNotHeard) {
            true => HashSet::new(),
            false => self.hear_open_runs(session, id, reclaim, watch, report)?,
        };
        if !is_made(Mistake::SnapshotsBeforeRuns) {
            self.refresh_index()?;
            self.mark_all(marks, &|| watch.is_cancelled())?;
        }
        let mut spared: HashSet<ContainerId> =
            ids.iter().filter(|id| held.contains(id)).copied().collect();
        let numbers = ids.iter().map(|id| self.containers.number(*id, None)).collect();
        self.index.contents_of(&numbers, &mut |number, record, _| {
            let id = self.containers.get(number).id;
            let is_in_vain = spared.contains(&id) || !marks.is_needed(&record.prefix);
            if is_in_vain || is_made(Mistake::NeededNotSpared) {
                return;
            }
            let elsewhere = self.has_copy(&record.prefix)
                || is_made(Mistake::CondemnedCopyCounts)
                    && self.has_other_copy(&record.prefix, &ids);
            if !elsewhere {
                spared.insert(id);
            }
        })?;
        if self.index.has_failed() {
            return Err(StoreError::NoReclaim(Unfit::Index));
        }
        report.spared = spared.len() as u64;
        let gone: Vec<&Weighed> = victims.iter().filter(|one| !spared.contains(&one.id)).collect();
        for (done, one) in gone.iter().enumerate() {
            if watch.is_cancelled() {
                return Err(StoreError::Cancelled);
            }
            let copies = [Some(one.id.object()?), one.id.spare()?];
            for object in copies.into_iter().flatten() {
                self.place.delete(&object)?;
            }
            let number = self.containers.number(one.id, None);
            self.containers.get(number).set_standing(Standing::Absent);
            report.deleted += 1;
            report.freed += one.size;
            let (done, all) = (done as u64 + 1, gone.len() as u64);
            watch.progress(ReclaimProgress { stage: "delete", done, all });
        }
        Ok(())
    }

    /// Whether a content lies anywhere but in these containers, whoever wants to delete that.
    fn has_other_copy(&self, prefix: &Prefix, ids: &[ContainerId]) -> bool {
        let is_other = |number| {
            let container = self.containers.get(number);
            container.is_there() && ids.binary_search(&container.id).is_err()
        };
        self.index.find_where(prefix, is_other).is_some()
    }

    /// What open runs hold: their answers to a notice. Those that stay silent are told to check again,
    /// and are dead unless their snapshot is there.
    fn hear_open_runs(
        &self,
        session: &Session,
        notice: RunId,
        reclaim: &Reclaim<'_>,
        watch: &dyn ReclaimWatch,
        report: &mut ReclaimReport,
    ) -> Result<HashSet<ContainerId>> {
        let begun = Instant::now();
        let mut held = HashSet::new();
        let mut answered: HashSet<RunId> = [session.run()].into();
        loop {
            let mut open: Vec<RunId> = self.open_runs()?.into_iter().collect();
            open.sort_unstable();
            open.retain(|run| !answered.contains(run));
            let mut silent = Vec::new();
            for run in open {
                match self.get_record::<Ack>(&format!("acks/{notice}-{run}")) {
                    Ok(ack) => {
                        held.extend(ContainerRun::spread(&ack.holds)?);
                        answered.insert(run);
                    }
                    // Not yet, or torn while it was put.
                    Err(error) if error.is_damage() => silent.push(run),
                    Err(error) => return Err(error),
                }
            }
            if silent.is_empty() {
                return Ok(held);
            }
            if begun.elapsed() >= reclaim.patience {
                for some in silent.chunks(crate::records::settling::MOST) {
                    self.settle(some, &session.writing.machine, reclaim.now)?;
                }
                report.revoked += silent.len() as u64;
                return Ok(held);
            }
            watch.progress(ReclaimProgress { stage: "wait", done: 0, all: silent.len() as u64 });
            let paused = Instant::now();
            while paused.elapsed() < PAUSE {
                if watch.is_cancelled() {
                    return Err(StoreError::Cancelled);
                }
                thread::sleep(PAUSE / 10);
            }
            // Another reclaim may wait for this one.
            session.poll()?;
        }
    }

    /// Takes away the notices of which no victim is left, with the answers to them; what they have
    /// condemned stays so. The others stay: somebody may be about to delete what they name.
    pub(super) fn remove_resolved_notices(&self, machine: &Machine, now: i64) -> Result<()> {
        let there: HashSet<ContainerId> =
            self.list_containers()?.into_iter().map(|(id, _)| id).collect();
        let (mut resolved, mut gone) = (Vec::new(), Vec::new());
        let mut buried: Vec<(ObjectName, Vec<ContainerId>, (i64, i64))> = Vec::new();
        for object in self.place.listing("notices")? {
            let notice = match self.get_record::<Notice>(object.name.as_str()) {
                Ok(notice) => notice,
                Err(error) if error.is_damage() => continue,
                Err(error) => return Err(error),
            };
            let victims = ContainerRun::spread(&notice.victims)?;
            let is_over = victims.iter().all(|victim| !there.contains(victim));
            match notice.deleted {
                Some(times) => buried.push((object.name, victims, times)),
                // What was damaged has been given up: nobody asks for it any more.
                None if notice.is_of_damage() && is_over => self.place.delete(&object.name)?,
                None if notice.is_of_damage() => {}
                None if is_over || is_made(Mistake::NoticeGoesEarly) => {
                    gone.extend(victims);
                    resolved.push(object.name);
                }
                None => {}
            }
        }
        self.bury(gone, buried, machine, now)?;
        for name in &resolved {
            self.place.delete(name)?;
        }
        let left: HashSet<String> = self
            .place
            .listing("notices")?
            .into_iter()
            .map(|object| object.name.leaf().to_owned())
            .collect();
        for ack in self.place.listing("acks")? {
            if !left.contains(ack.name.leaf().split('-').next().unwrap_or_default()) {
                self.place.delete(&ack.name)?;
            }
        }
        Ok(())
    }

    /// Writes down what has been deleted, together with what was a short time before, and forgets what was
    /// long ago.
    fn bury(
        &self,
        mut gone: Vec<ContainerId>,
        buried: Vec<(ObjectName, Vec<ContainerId>, (i64, i64))>,
        machine: &Machine,
        now: i64,
    ) -> Result<()> {
        let mut since = now;
        let mut replaced = Vec::new();
        for (name, victims, (first, last)) in buried {
            if now.saturating_sub(last) > FORGOTTEN {
                self.place.delete(&name)?;
            } else if !gone.is_empty() && now.saturating_sub(first) < TOGETHER {
                since = since.min(first);
                gone.extend(victims);
                replaced.push(name);
            }
        }
        if gone.is_empty() || is_made(Mistake::NoticeGoesEarly) {
            return Ok(());
        }
        gone.sort_unstable();
        gone.dedup();
        let notice = Notice {
            victims: ContainerRun::gather(&gone),
            damaged: None,
            deleted: Some((since, now)),
        };
        self.put_record(&format!("notices/{}", RunId::random()?), &notice, machine)?;
        replaced.iter().try_for_each(|name| Ok(self.place.delete(name)?))
    }
}
