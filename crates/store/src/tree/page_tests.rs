use super::*;
use crate::{
    containers::{Containers, Location},
    format::ids::{Class, ContainerId, RunId},
    tree::{
        annex::{attach, split},
        needs::Within,
        scan::scan,
    },
};
use proptest::prelude::*;

fn print(seed: u8) -> Fingerprint {
    Fingerprint([seed; 32])
}

fn page_ref(seed: u8) -> PageRef {
    PageRef { fingerprint: print(seed), spot: Spot::Unknown }
}

fn items() -> impl Strategy<Value = Vec<Item>> {
    let chunk = (any::<u8>(), any::<u32>()).prop_map(|(seed, length)| {
        Item::Chunk(ChunkRef { fingerprint: print(seed), length, spot: Spot::Unknown })
    });
    prop::collection::vec(prop_oneof![chunk, any::<u64>().prop_map(Item::Hole)], 0..6)
}

fn body() -> impl Strategy<Value = Body> {
    prop_oneof![
        (any::<u64>(), items())
            .prop_map(|(size, items)| Body::File { size, recipe: Recipe::Inline(items) }),
        (any::<u64>(), any::<u8>()).prop_map(|(size, seed)| Body::File {
            size,
            recipe: Recipe::Paged(page_ref(seed), Needs::default())
        }),
        (any::<u8>(), any::<u64>(), any::<u64>()).prop_map(|(seed, files, bytes)| {
            Body::Directory {
                root: page_ref(seed),
                needs: Needs::default(),
                below: Below { files, bytes },
            }
        }),
        prop::collection::vec(any::<u8>(), 0..40).prop_map(Body::Link),
        Just(Body::Pipe),
        (any::<bool>(), any::<u32>(), any::<u32>()).prop_map(|(block, major, minor)| {
            let kind = if block { DeviceKind::Block } else { DeviceKind::Character };
            Body::Device { kind, major, minor }
        }),
    ]
}

fn moment() -> impl Strategy<Value = Moment> {
    (any::<i64>(), 0u32..1_000_000_000).prop_map(|(seconds, nanos)| Moment { seconds, nanos })
}

prop_compose! {
    fn entry()(
        name in prop::collection::vec(any::<u8>().prop_filter("a name", |b| *b != 0 && *b != b'/'), 3..20),
        mode in 0u32..0o10000,
        (uid, gid, user, group) in (any::<u32>(), any::<u32>(), any::<Option<bool>>(), any::<Option<bool>>()),
        modified in moment(), changed in moment(), inode: u64,
        links: Option<(u64, u64)>, unsettled: bool,
        xattrs in prop::collection::vec((prop::collection::vec(any::<u8>(), 1..9), prop::collection::vec(any::<u8>(), 0..9)), 0..3),
        body in body(),
    ) -> Entry {
        let named = |name: Option<bool>| name.map(|one| if one { "keeper" } else { "räuber" }.into());
        let owner = Owner { uid, gid, user: named(user), group: named(group) };
        Entry { name, mode, owner, modified, changed, inode, links, unsettled, xattrs, body }
    }
}

fn encode_page(entries: &[Entry]) -> Vec<u8> {
    let (mut rows, mut refs, mut owners) = (Vec::new(), Refs::default(), Vec::new());
    for entry in entries {
        let owner = owners.iter().position(|owner| *owner == entry.owner).unwrap_or_else(|| {
            owners.push(entry.owner.clone());
            owners.len() - 1
        });
        rows = encode_entry(entry, owner as u32, rows, &mut refs);
    }
    assemble(0, Some(&owners), entries.len() as u64, &rows)
}

proptest! {
    #[test]
    fn entries_come_back_as_they_were(mut entries in prop::collection::vec(entry(), 0..12)) {
        entries.sort_by(|a, b| a.name.cmp(&b.name));
        entries.dedup_by(|a, b| a.name == b.name);
        let body = encode_page(&entries);
        match Page::decode(&body, &Hints::NONE, "page").expect("decodes") {
            Page::Entries(back) => prop_assert_eq!(back, entries),
            other => prop_assert!(false, "{:?}", other),
        }
    }

    #[test]
    fn what_is_met_as_bytes_first_is_what_would_be_decoded(
        mut entries in prop::collection::vec(entry(), 0..8), at: prop::sample::Index, value: Option<u8>,
    ) {
        entries.sort_by(|a, b| a.name.cmp(&b.name));
        entries.dedup_by(|a, b| a.name == b.name);
        let mut body = encode_page(&entries);
        if let Some(value) = value {
            let at = at.index(body.len());
            body[at] = value;
        }
        let mut met = Vec::new();
        let scanned = scan(&body, &Hints::NONE, "page", &mut |row| {
            let entry = row.entry("page")?;
            assert_eq!((row.name, row.is_directory), (entry.name.as_slice(), entry.kind() == crate::Kind::Directory));
            met.push(entry);
            Ok(())
        });
        match (Page::decode(&body, &Hints::NONE, "page"), scanned) {
            (Ok(Page::Entries(decoded)), Ok(None)) => prop_assert_eq!(met, decoded),
            (Ok(other), Ok(Some(_))) => prop_assert!(!matches!(other, Page::Entries(_))),
            (Err(_), Err(_)) => {}
            (decoded, scanned) => prop_assert!(false, "{:?} {:?}", decoded, scanned.is_ok()),
        }
    }

    #[test]
    fn damaged_pages_give_errors_and_no_panic(
        entries in prop::collection::vec(entry(), 1..4), at: prop::sample::Index, value: u8, cut: prop::sample::Index,
    ) {
        let mut body = encode_page(&entries);
        let at = at.index(body.len());
        body[at] = value;
        let _ = Page::decode(&body, &Hints::NONE, "page");
        body.truncate(cut.index(body.len()));
        prop_assert!(Page::decode(&body, &Hints::NONE, "page").is_err());
    }

    #[test]
    fn recipes_come_back_as_they_were(items in items()) {
        let mut rows = Vec::new();
        for item in &items {
            rows = encode_item(item, rows, &mut Refs::default());
        }
        let body = assemble(RECIPE_LEVEL, None, items.len() as u64, &rows);
        match Page::decode(&body, &Hints::NONE, "page").expect("decodes") {
            Page::Items(back) => prop_assert_eq!(back, items),
            other => prop_assert!(false, "{:?}", other),
        }
    }

    #[test]
    fn hints_come_back_or_are_left_out(noise in prop::collection::vec(any::<u8>(), 0..300)) {
        let containers = Containers::default();
        let id = |sequence| ContainerId { class: Class::Data, run: RunId([3; 16]), sequence };
        let at = |sequence, chunk| {
            let container = containers.number(id(sequence), Some(&[sequence as u8; 16]));
            Spot::At(Location { container, block: 2, chunk, offset: 7_000, length: 900 })
        };
        let own = Location { container: containers.number(id(9), Some(&[9; 16])), block: 4, chunk: 1, offset: 5, length: 6 };
        let spots = vec![at(1, 3), Spot::Unknown, at(2, 4), Spot::Open { token: 11, chunk: 8 }, Spot::Open { token: 12, chunk: 8 }, at(1, 5)];
        let number = |sequence| Within::Container(containers.number(id(sequence), Some(&[sequence as u8; 16])));
        let needs = vec![
            Needs::of(vec![number(2), number(5), Within::Block(11)]),
            Needs::default(),
            Needs::of(vec![number(1), Within::Block(12)]),
            Needs::of(Vec::new()),
        ];
        let refs = Refs { spots: spots.clone(), needs };
        let stored = attach(b"body", &refs, 11, &containers);
        let (body, annex) = split(&stored).expect("splits");
        prop_assert_eq!(body, b"body");
        let hints = Hints::of(annex, own, &containers);
        let read: Vec<Spot> = (0..6).map(|number| hints.spot(number)).collect();
        let same_block = Spot::At(Location { chunk: 8, ..own });
        prop_assert_eq!(read, vec![spots[0], Spot::Unknown, spots[2], same_block, Spot::Unknown, spots[5]]);
        let read: Vec<Needs> = hints.needs(6).collect();
        let noted = Needs::of(vec![number(2), number(5), Within::Container(own.container)]);
        prop_assert_eq!(read, vec![noted, Needs::default(), Needs::default(), Needs::of(Vec::new())], "what lies in another open block is not noted");
        // An annex of a writer that noted nothing, one that is cut anywhere, and noise.
        let bare = attach(b"body", &Refs { spots, needs: Vec::new() }, 11, &containers);
        let (_, bare) = split(&bare).expect("splits");
        prop_assert_eq!(Hints::of(bare, own, &containers).needs(6).count(), 0);
        for wrong in [&noise[..], &annex[..noise.len().min(annex.len())]] {
            let hints = Hints::of(wrong, own, &containers);
            let _ = (hints.spot(0), hints.spot(usize::MAX), hints.needs(3).count(), hints.needs(usize::MAX).count());
        }
        let _ = split(&noise);
    }
}
