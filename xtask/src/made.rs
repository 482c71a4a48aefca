//! Stores that are made through the store's own writer, to be measured.

use std::{fs, path::Path, process::Command, sync::Arc};

use anyhow::{Context as _, Result, ensure};
use skellin_store::{
    Compression, ContentWriter, Entry, Moment, Owner, Recipe, RunId, Session, SessionStart,
    SnapshotDraft, SnapshotSource, Store, TreeBuilder,
};

/// Bytes of a chunk.
const CHUNK: usize = 64;

pub(crate) fn file(name: &str, size: u64, recipe: Recipe) -> Entry {
    Entry {
        name: name.as_bytes().to_vec(),
        mode: 0o644,
        owner: Owner::default(),
        modified: Moment { seconds: 1_790_000_000, nanos: 0 },
        changed: Moment::default(),
        inode: 1,
        links: None,
        unsettled: false,
        xattrs: Vec::new(),
        body: skellin_store::Body::File { size, recipe },
    }
}

pub(crate) fn begin(store: &Arc<Store>, started: i64) -> Result<Arc<Session>> {
    let start = SessionStart {
        plan: "readings",
        machine: "hut",
        started,
        order: None,
        origin: None,
        compression: Compression::Default,
    };
    Ok(Session::begin(store, &start)?)
}

/// Stores files of chunks, which `each` makes by name; their entries.
pub(crate) fn put(session: &Arc<Session>, files: &[(String, Vec<Vec<u8>>)]) -> Result<Vec<Entry>> {
    let mut writer = ContentWriter::new(session)?;
    for (name, chunks) in files {
        writer.begin_file(name.clone());
        chunks.iter().try_for_each(|chunk| writer.chunk(chunk).map(|_| ()))?;
        writer.end_file()?;
    }
    writer.close()?;
    let done = writer.take_done().into_iter();
    Ok(done.map(|(name, content)| file(&name, content.size, content.recipe)).collect())
}

/// The snapshot of a source `srv` with these files.
pub(crate) fn finish(session: &Arc<Session>, mut entries: Vec<Entry>) -> Result<RunId> {
    entries.sort_by(|a, b| a.name.cmp(&b.name));
    let mut below = TreeBuilder::default();
    entries.iter().try_for_each(|entry| below.push(&**session, entry))?;
    let (root, needs) = below.finish(&**session)?;
    let counted = entries.iter().map(Entry::size).sum();
    let mut source = file("srv", 0, Recipe::Inline(Vec::new()));
    source.body = skellin_store::Body::Directory {
        root,
        needs,
        below: skellin_store::Below { files: entries.len() as u64, bytes: counted },
    };
    let mut top = TreeBuilder::default();
    top.push(&**session, &source)?;
    let (root, _) = top.finish(&**session)?;
    let draft = SnapshotDraft {
        sources: vec![SnapshotSource {
            name: b"srv".to_vec().into(),
            path: b"/srv".to_vec().into(),
        }],
        root,
        labels: Vec::new(),
        plan_text: "sources = [\"/srv\"]\nstore = \"oak\"\n".to_owned(),
        configuration: Vec::new(),
        files: entries.len() as u64,
        bytes: counted,
        ended: 0,
        exceptions: 0,
        exception_list: Vec::new(),
        sockets: 0,
    };
    Ok(session.finish(draft)?.run)
}

/// Different bytes for each number.
pub(crate) fn chunk(number: u64) -> Vec<u8> {
    blake3::hash(&number.to_le_bytes()).as_bytes().repeat(CHUNK / 32)
}

/// What the last snapshot has, taken over.
pub(crate) fn kept_entries(store: &Store, session: &Session) -> Result<Vec<Entry>> {
    let Some(base) = session.comparison().base() else { return Ok(Vec::new()) };
    let source = store.entry(base.root_page(store), b"srv")?.context("its source")?;
    let skellin_store::Body::Directory { root, .. } = source.body else { return Ok(Vec::new()) };
    let mut entries = Vec::new();
    for entry in store.entries(root) {
        let mut entry = entry?;
        if let skellin_store::Body::File { recipe, .. } = &mut entry.body {
            ensure!(session.comparison().take_over(recipe)?, "it is all there");
        }
        entries.push(entry);
    }
    Ok(entries)
}

/// The figures that a process of its own tells.
pub(crate) fn by_itself(command: &str, arguments: &[&Path]) -> Result<Vec<f64>> {
    let output = Command::new(std::env::current_exe()?).arg(command).args(arguments).output()?;
    ensure!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout)?;
    text.split_whitespace().map(|figure| Ok(figure.parse()?)).collect()
}

/// Bytes of anonymous memory of this process, as proc(5) tells.
pub(crate) fn anonymous() -> Result<u64> {
    let status = fs::read_to_string("/proc/self/status")?;
    let line = status.lines().find_map(|line| line.strip_prefix("RssAnon:")).context("RssAnon")?;
    let kibibytes: u64 = line.trim().trim_end_matches(" kB").parse()?;
    Ok(kibibytes << 10)
}
