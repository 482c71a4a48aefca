//! Eight segments of a level become one of the next, however long they are: their records are read
//! and written as streams, a part at a time in memory.

use std::{
    cmp::Reverse,
    collections::{BinaryHeap, HashMap, HashSet},
};

use super::{
    draft::SegmentDraft,
    layout::{PartRow, SegmentContainer, SegmentId},
    record::{Record, encode_rows},
    segment::{Records, Segment},
};
use crate::{
    error::{Result, StoreError},
    format::{ids::ContainerId, signed::Machine},
    store::Store,
};

/// A segment with more records than these has them in parts of so many.
pub(crate) const RECORDS_A_PART: usize = 1 << 19;

/// The new number of a container that is left out.
const NOT_KEPT: u32 = u32::MAX;

/// The records of several segments in one order, each told once.
struct Merged<'a> {
    inputs: Vec<Records<'a>>,
    /// For each input the new numbers of its containers.
    numbers: Vec<Vec<u32>>,
    next: BinaryHeap<Reverse<(Record, usize)>>,
    last: Option<Record>,
}

impl<'a> Merged<'a> {
    fn new(inputs: Vec<Records<'a>>, numbers: Vec<Vec<u32>>) -> Result<Self> {
        let count = inputs.len();
        let mut merged = Self { inputs, numbers, next: BinaryHeap::new(), last: None };
        (0..count).try_for_each(|input| merged.advance(input))?;
        Ok(merged)
    }

    fn advance(&mut self, input: usize) -> Result<()> {
        while let Some(record) = self.inputs[input].next()? {
            let number = self.numbers[input].get(record.container as usize);
            let container = *number
                .ok_or_else(|| StoreError::damaged("the index", "a record without container"))?;
            if container == NOT_KEPT {
                continue;
            }
            self.next.push(Reverse((Record { container, ..record }, input)));
            break;
        }
        Ok(())
    }

    fn next(&mut self) -> Result<Option<Record>> {
        while let Some(Reverse((record, input))) = self.next.pop() {
            self.advance(input)?;
            if self.last != Some(record) {
                self.last = Some(record);
                return Ok(Some(record));
            }
        }
        Ok(None)
    }
}

impl Store {
    /// Merges eight segments of a level into one of the next, where there are so many. To be called
    /// while the run that names the new ones is open: parts of what nobody is writing are cleared away.
    pub(crate) fn merge_segments(
        &self,
        machine: &Machine,
        mut next_id: impl FnMut() -> SegmentId,
    ) -> Result<()> {
        while let Some((level, inputs)) = self.segments.mergeable() {
            let mut segments = Vec::new();
            for id in &inputs {
                match self.load_segment(*id) {
                    Ok(segment) => segments.push((id.to_string(), segment)),
                    // Somebody else merged at the same time: facts only grow, nothing is lost.
                    Err(error) if error.is_unreadable() => return Ok(()),
                    Err(error) => return Err(error),
                }
            }
            let merged = next_id();
            let all = |_: &ContainerId| true;
            let into = (level + 1, inputs.as_slice());
            if let Err(error) = self.write_merged(merged, into, &segments, &all, machine) {
                // Half of it may lie there.
                let _ = self.delete_segments(&[merged]);
                return Err(error);
            }
            drop(segments);
            self.index.drop_segments(&inputs);
            self.delete_segments(&inputs)?;
            self.segments.removed(&inputs);
        }
        Ok(())
    }

    /// Writes one segment that stands for all of these, without what it knows of containers that are
    /// not there any more. To be called as [`merge_segments`](Self::merge_segments).
    pub(crate) fn merge_all(
        &self,
        inputs: &[SegmentId],
        there: &HashSet<ContainerId>,
        machine: &Machine,
        next_id: impl FnOnce() -> SegmentId,
    ) -> Result<()> {
        let mut segments = Vec::new();
        let mut level = 0;
        for id in inputs {
            match self.load_segment(*id) {
                Ok(segment) => {
                    level = level.max(segment.level);
                    segments.push((id.to_string(), segment));
                }
                // Somebody merges at this moment: it will be done another time.
                Err(error) if error.is_unreadable() => return Ok(()),
                Err(error) => return Err(error),
            }
        }
        let merged = next_id();
        let keep = |id: &ContainerId| there.contains(id);
        if let Err(error) = self.write_merged(merged, (level, inputs), &segments, &keep, machine) {
            let _ = self.delete_segments(&[merged]);
            return Err(error);
        }
        drop(segments);
        self.index.drop_segments(inputs);
        self.delete_segments(inputs)?;
        self.segments.removed(inputs);
        Ok(())
    }

    fn write_merged(
        &self,
        id: SegmentId,
        (level, inputs): (u32, &[SegmentId]),
        segments: &[(String, Segment)],
        keep: &dyn Fn(&ContainerId) -> bool,
        machine: &Machine,
    ) -> Result<()> {
        let mut draft = SegmentDraft { level, inputs: inputs.to_vec(), ..SegmentDraft::default() };
        let mut known = HashMap::new();
        let mut numbers = Vec::new();
        for (_, segment) in segments {
            let number = |container: &SegmentContainer| {
                if !keep(&container.id) {
                    return NOT_KEPT;
                }
                *known.entry(container.id).or_insert_with(|| {
                    draft.containers.push(container.clone());
                    (draft.containers.len() - 1) as u32
                })
            };
            numbers.push(segment.containers.iter().map(number).collect::<Vec<u32>>());
            draft.keys.extend(segment.keys.iter().map(|(run, class, key)| ((*run, *class), *key)));
        }
        let listed: HashSet<_> =
            draft.containers.iter().map(|one| (one.id.run, one.id.class)).collect();
        draft.keys.retain(|of, _| listed.contains(of));
        let records = segments.iter().map(|(object, segment)| segment.records(object)).collect();
        let mut merged = Merged::new(records, numbers)?;
        let most = self.records_a_part;
        let mut parts = Vec::new();
        let mut part: Vec<Record> = Vec::new();
        while let Some(record) = merged.next()? {
            // Records of one prefix lie in one part.
            let ends =
                part.len() >= most && part.last().is_some_and(|last| last.prefix != record.prefix);
            if ends {
                parts.push(self.write_part(id, parts.len() as u32, &part)?);
                part.clear();
            }
            part.push(record);
        }
        if parts.is_empty() {
            draft.records = part;
            return self.write_segment(id, draft, machine);
        }
        parts.push(self.write_part(id, parts.len() as u32, &part)?);
        drop(part);
        self.put_segment(id, (level, draft.encode_head(&parts)), machine)
    }

    fn write_part(&self, id: SegmentId, number: u32, records: &[Record]) -> Result<PartRow> {
        let mut bytes = Vec::new();
        encode_rows(records, &mut bytes);
        let hash = *blake3::hash(&bytes).as_bytes();
        let object = id.part(number);
        let sealed = self.keys.index.seal(&bytes, object.as_bytes())?;
        self.place.create(&skellin_place::ObjectName::new(object.as_str())?, &sealed)?;
        self.keep_in_cache(&object, &bytes);
        let first = records.first().map(|record| record.prefix).unwrap_or_default();
        Ok(PartRow { records: records.len() as u64, first, hash })
    }

    /// Deletes segments: what makes them some first, then their parts, and with these the parts that a
    /// crash has left without what makes them a segment. Those are listed before and after the open
    /// runs: what is being written belongs to one of these, or has become whole.
    pub(crate) fn delete_segments(&self, ids: &[SegmentId]) -> Result<()> {
        for id in ids {
            self.place.delete(&id.object()?)?;
        }
        self.forget_cached(ids);
        let (own, mut strays): (Vec<_>, Vec<_>) =
            self.listed_parts()?.into_iter().partition(|(id, _)| ids.contains(id));
        if !strays.is_empty() {
            let open = self.open_runs()?;
            let whole: HashSet<SegmentId> = self.listed_segments()?.into_iter().collect();
            strays.retain(|(id, _)| !whole.contains(id) && !open.contains(&id.run));
        }
        for (_, object) in own.into_iter().chain(strays) {
            self.place.delete(&object)?;
        }
        Ok(())
    }
}
