//! Objects in a directory, and what is answered about them.

use std::{
    collections::BTreeMap,
    fs, io,
    path::{Path, PathBuf},
    sync::Mutex,
    time::SystemTime,
};

use hyper::body::Bytes;

use super::{Bucket, Trouble, answer::Answer, locked, request::Asked};

/// A listing has no more names than this.
const PAGE: usize = 1000;

/// An upload in parts that was begun.
#[derive(Clone, Debug)]
pub(super) struct Upload {
    object: String,
    class: Option<String>,
    begun: String,
    parts: BTreeMap<u32, Bytes>,
}

/// What is known of an object.
#[derive(Clone, Debug)]
struct Object {
    size: u64,
    class: Option<String>,
    modified: SystemTime,
}

impl Object {
    fn of(facts: &fs::Metadata, class: Option<String>) -> io::Result<Self> {
        Ok(Self { size: facts.len(), class, modified: facts.modified()? })
    }

    /// What this state of it is called.
    fn tag(&self) -> String {
        let since = self.modified.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        format!("\"{:x}-{:x}\"", self.size, since.as_nanos())
    }

    fn told(&self, answer: Answer) -> Answer {
        let modified = httpdate::fmt_http_date(self.modified);
        answer.with("ETag", self.tag()).with("Last-Modified", modified)
    }
}

/// What is there.
#[derive(Debug, Default)]
struct Inventory {
    objects: BTreeMap<String, Object>,
    uploads: BTreeMap<String, Upload>,
    /// Objects that were asked to be thawed.
    thawed: Vec<String>,
    last: u64,
}

/// All objects of a bucket.
#[derive(Debug)]
pub(super) struct Shelf {
    root: PathBuf,
    inventory: Mutex<Inventory>,
}

fn gather(root: &Path, below: &str, into: &mut BTreeMap<String, Object>) -> io::Result<()> {
    for entry in fs::read_dir(root.join(below))? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        let name = if below.is_empty() { name } else { format!("{below}/{name}") };
        let metadata = entry.metadata()?;
        match metadata.is_dir() {
            true => gather(root, &name, into)?,
            false => drop(into.insert(name, Object::of(&metadata, None)?)),
        }
    }
    Ok(())
}

fn tag(bytes: &[u8]) -> String {
    let digest = ring::digest::digest(&ring::digest::SHA256, bytes);
    digest.as_ref()[..16].iter().map(|byte| format!("{byte:02x}")).collect()
}

fn escaped(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

impl Shelf {
    pub fn open(root: PathBuf) -> io::Result<Self> {
        fs::create_dir_all(&root)?;
        let mut inventory = Inventory::default();
        gather(&root, "", &mut inventory.objects)?;
        Ok(Self { root, inventory: Mutex::new(inventory) })
    }

    pub fn classes(&self) -> Vec<(String, String)> {
        let inventory = locked(&self.inventory);
        let named = inventory.objects.iter();
        named.filter_map(|(name, object)| Some((name.clone(), object.class.clone()?))).collect()
    }

    pub fn uploads(&self) -> Vec<Upload> {
        locked(&self.inventory).uploads.values().cloned().collect()
    }

    /// The answer to one who may ask.
    pub fn answer(&self, asked: &Asked, bucket: &Bucket, trouble: &Trouble) -> Answer {
        let has = |name: &str| asked.query.contains_key(name);
        let failed = |error: io::Error| Answer::error(500, "InternalError", &error.to_string());
        match (asked.method.as_str(), asked.object.as_str()) {
            ("GET", "") if asked.bucket.is_empty() => Answer::xml(
                "ListAllMyBucketsResult",
                &format!("<Buckets><Bucket><Name>{}</Name></Bucket></Buckets>", bucket.name),
            ),
            ("GET", "") if has("uploads") => self.list_uploads(asked),
            ("GET", "") => self.list(asked),
            ("POST", _) if has("uploads") => self.begin(asked, trouble),
            ("PUT", _) if has("partNumber") => self.part(asked, trouble),
            ("POST", _) if has("uploadId") => self.complete(asked, trouble).unwrap_or_else(failed),
            ("DELETE", _) if has("uploadId") => {
                let removed = locked(&self.inventory).uploads.remove(asked.query("uploadId"));
                match removed {
                    Some(_) => Answer::new(204),
                    None => Answer::error(404, "NoSuchUpload", "no such upload"),
                }
            }
            ("POST", object) if has("restore") => {
                locked(&self.inventory).thawed.push(object.to_owned());
                Answer::new(202)
            }
            ("POST", _) => Answer::error(400, "InvalidRequest", "nothing is asked"),
            ("PUT", _) => {
                let class = asked.headers.get("x-amz-storage-class").cloned();
                self.put(asked, &asked.body, class, trouble).unwrap_or_else(failed)
            }
            ("GET" | "HEAD", _) => self.get(asked, trouble).unwrap_or_else(failed),
            ("DELETE", object) => {
                let mut inventory = locked(&self.inventory);
                if inventory.objects.remove(object).is_some() {
                    let _ = fs::remove_file(self.root.join(object));
                }
                Answer::new(204)
            }
            _ => Answer::error(405, "MethodNotAllowed", "nothing of that kind is done here"),
        }
    }

    fn put(
        &self,
        asked: &Asked,
        bytes: &[u8],
        class: Option<String>,
        trouble: &Trouble,
    ) -> io::Result<Answer> {
        let object = &asked.object;
        let wants_new = asked.headers.contains_key("if-none-match");
        if wants_new && trouble.knows_no_conditions {
            return Ok(Answer::error(501, "NotImplemented", "there are no conditions here"));
        }
        let mut inventory = locked(&self.inventory);
        if wants_new && !trouble.writes_over && inventory.objects.contains_key(object) {
            return Ok(Answer::error(412, "PreconditionFailed", "there is one already"));
        }
        let held: u64 = inventory.objects.values().map(|object| object.size).sum();
        if trouble.room.is_some_and(|room| held + bytes.len() as u64 > room) {
            return Ok(Answer::error(507, "QuotaExceeded", "the bucket is full"));
        }
        let path = self.root.join(object);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)?;
        }
        fs::write(&path, bytes)?;
        let made = Object::of(&fs::metadata(&path)?, class)?;
        let answer = Answer::new(200).with("ETag", made.tag());
        inventory.objects.insert(object.clone(), made);
        Ok(answer)
    }

    fn get(&self, asked: &Asked, trouble: &Trouble) -> io::Result<Answer> {
        let inventory = locked(&self.inventory);
        let Some(object) = inventory.objects.get(&asked.object).cloned() else {
            return Ok(Answer::error(404, "NoSuchKey", "no such object"));
        };
        let is_head = asked.method == "HEAD";
        let frozen = object.class.is_some() && object.class == trouble.frozen_class;
        let asked_for = inventory.thawed.contains(&asked.object);
        if frozen && !is_head && (!asked_for || trouble.thaws_long) {
            return Ok(Answer::error(403, "InvalidObjectState", "it is frozen"));
        }
        let size = object.size;
        drop(inventory);
        if is_head {
            let mut answer = object.told(Answer::new(200).length(size));
            if let Some(class) = &object.class {
                answer = answer.with("x-amz-storage-class", class.clone());
            }
            if frozen && asked_for {
                let ongoing = format!("ongoing-request=\"{}\"", trouble.thaws_long);
                answer = answer.with("x-amz-restore", ongoing);
            }
            return Ok(answer);
        }
        let bytes = fs::read(self.root.join(&asked.object))?;
        let Some(range) = asked.headers.get("range").and_then(|range| range.strip_prefix("bytes="))
        else {
            return Ok(object.told(Answer::new(200).body(bytes)));
        };
        let (from, to) = range.split_once('-').unwrap_or((range, ""));
        let (from, to) = match (from.parse::<u64>(), to.parse::<u64>()) {
            (Err(_), Ok(last)) => (size.saturating_sub(last), size),
            (Ok(from), Ok(to)) if to < from => return Ok(Answer::new(200).body(bytes)),
            (Ok(from), Ok(to)) => (from, to.saturating_add(1).min(size)),
            (Ok(from), Err(_)) => (from, size),
            _ => return Ok(Answer::new(200).body(bytes)),
        };
        if from >= size {
            return Ok(Answer::error(416, "InvalidRange", "it is shorter than that"));
        }
        let part =
            bytes[usize::try_from(from).unwrap_or(0)..usize::try_from(to).unwrap_or(0)].to_vec();
        let answer = Answer::new(206).body(part);
        Ok(object.told(answer.with("Content-Range", format!("bytes {from}-{}/{size}", to - 1))))
    }

    fn list(&self, asked: &Asked) -> Answer {
        let prefix = asked.query("prefix");
        let most = asked.query("max-keys").parse().unwrap_or(PAGE).min(PAGE);
        let after = asked.query("continuation-token");
        let inventory = locked(&self.inventory);
        let mut content = String::new();
        // What is told of last, and of how many: objects, and beginnings of names.
        let (mut told, mut last, mut is_cut) = (0, String::new(), false);
        for (name, object) in &inventory.objects {
            let Some(rest) = name.strip_prefix(prefix) else { continue };
            let folder = rest.find('/').filter(|_| !asked.query("delimiter").is_empty());
            let shown = folder.map_or(name.as_str(), |at| &name[..=prefix.len() + at]);
            if shown <= after || shown == last {
                continue;
            }
            if told == most {
                is_cut = true;
                break;
            }
            told += 1;
            shown.clone_into(&mut last);
            content.push_str(&match folder {
                Some(_) => format!(
                    "<CommonPrefixes><Prefix>{}</Prefix></CommonPrefixes>",
                    escaped(shown)
                ),
                None => {
                    let modified = jiff::Timestamp::try_from(object.modified).unwrap_or_default();
                    format!(
                        "<Contents><Key>{}</Key><LastModified>{modified}</LastModified><ETag>{}</ETag><Size>{}</Size></Contents>",
                        escaped(name), escaped(&object.tag()), object.size
                    )
                }
            });
        }
        content.push_str(&format!("<IsTruncated>{is_cut}</IsTruncated>"));
        if is_cut {
            let token = escaped(&last);
            content.push_str(&format!("<NextContinuationToken>{token}</NextContinuationToken>"));
        }
        Answer::xml("ListBucketResult", &content)
    }

    fn list_uploads(&self, asked: &Asked) -> Answer {
        let inventory = locked(&self.inventory);
        let uploads = inventory
            .uploads
            .iter()
            .filter(|(_, upload)| upload.object.starts_with(asked.query("prefix")));
        let content: String = uploads
            .map(|(id, Upload { object, begun, .. })| {
                format!("<Upload><Key>{}</Key><UploadId>{id}</UploadId><Initiated>{begun}</Initiated></Upload>", escaped(object))
            })
            .collect();
        Answer::xml("ListMultipartUploadsResult", &content)
    }

    fn begin(&self, asked: &Asked, trouble: &Trouble) -> Answer {
        let mut inventory = locked(&self.inventory);
        inventory.last += 1;
        let id = format!("upload-{}", inventory.last);
        let now = jiff::Timestamp::now().as_second() + trouble.clock;
        let upload = Upload {
            object: asked.object.clone(),
            class: asked.headers.get("x-amz-storage-class").cloned(),
            begun: jiff::Timestamp::from_second(now).unwrap_or_default().to_string(),
            parts: BTreeMap::new(),
        };
        inventory.uploads.insert(id.clone(), upload);
        Answer::xml("InitiateMultipartUploadResult", &format!("<UploadId>{id}</UploadId>"))
    }

    fn part(&self, asked: &Asked, trouble: &Trouble) -> Answer {
        let mut inventory = locked(&self.inventory);
        let held: u64 = inventory.objects.values().map(|object| object.size).sum();
        if trouble.room.is_some_and(|room| held + asked.body.len() as u64 > room) {
            return Answer::error(507, "QuotaExceeded", "the bucket is full");
        }
        let Some(upload) = inventory.uploads.get_mut(asked.query("uploadId")) else {
            return Answer::error(404, "NoSuchUpload", "no such upload");
        };
        let Ok(number) = asked.query("partNumber").parse() else {
            return Answer::error(400, "InvalidArgument", "the part has no number");
        };
        upload.parts.insert(number, asked.body.clone());
        Answer::new(200).with("ETag", format!("\"{}\"", tag(&asked.body)))
    }

    fn complete(&self, asked: &Asked, trouble: &Trouble) -> io::Result<Answer> {
        let upload = locked(&self.inventory).uploads.get(asked.query("uploadId")).cloned();
        let Some(upload) = upload else {
            return Ok(Answer::error(404, "NoSuchUpload", "no such upload"));
        };
        let list = String::from_utf8_lossy(&asked.body).into_owned();
        let named = list.matches("<PartNumber>").count();
        let tags_fit = upload.parts.values().all(|part| list.contains(&tag(part)));
        if named != upload.parts.len() || !tags_fit {
            return Ok(Answer::error(400, "InvalidPart", "the parts are others"));
        }
        let bytes: Vec<u8> = upload.parts.into_values().flatten().collect();
        let put = self.put(asked, &bytes, upload.class, trouble)?;
        if put.is_fine() {
            locked(&self.inventory).uploads.remove(asked.query("uploadId"));
            return Ok(Answer::xml("CompleteMultipartUploadResult", "<ETag>whole</ETag>"));
        }
        Ok(put)
    }
}
