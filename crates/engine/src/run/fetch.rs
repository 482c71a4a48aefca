//! What takes a way to another host: done beside the workers, many at a time, so that a slow line
//! keeps them waiting as little as may be.

use super::{
    pool::Pool,
    task::{Opened, Task},
};

/// Fetches until nothing is left.
pub(super) fn work(pool: &Pool<'_>) {
    while let Some(task) = pool.tasks.wait_for_far() {
        let fetched = match task {
            Task::Directory(directory) => {
                // Why it could not be listed is told where it is gone through.
                let _ = directory.source_dir();
                Task::Directory(directory)
            }
            Task::File(mut file) => {
                let first = file.from.open(&file.name).and_then(|opened| match opened {
                    Opened::Far(far) => Ok(Some(far.part(0, far.stride())?)),
                    Opened::Here(_) => Ok(None),
                });
                file.fetched = first.transpose();
                Task::File(file)
            }
            part @ Task::Part(_) => part,
        };
        pool.tasks.fetched(fetched);
    }
}
