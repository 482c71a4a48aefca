//! Rules made ready, which a plan may name in `rules-from`.

/// Ready sets: the name a plan gives, and the rules.
pub const READY: [(&str, &str); 2] = [
    (
        "builtin:caches",
        "# What programs make again by themselves.
skip .cache/ Cache/ Caches/ cache2/ .thumbnails/ .ccache/
skip __pycache__/ node_modules/ .sass-cache/
skip holding CACHEDIR.TAG
skip *.tmp *.temp *.part *.partial *.crdownload *.swp *.swo *~ .#* nocase
skip .Trash-*/ .local/share/Trash/ lost+found/
skip core core.[0-9]* over 1 MiB
",
    ),
    (
        "builtin:system",
        "# What a backup of the whole system must leave out.
skip /proc/** /sys/** /run/** /dev/**
skip /tmp/** /var/tmp/** /var/run/** /var/lock/**
skip /mnt/** /media/**
skip /swapfile /swap.img /swap/
skip /var/cache/** /var/lib/systemd/coredump/**
skip lost+found/
skip kind socket
",
    ),
];

/// What people often leave out: in words, and as a ready set or a rule.
pub const OFTEN_SKIPPED: [(&str, OftenSkipped); 4] = [
    ("caches, temporary files and the trash", OftenSkipped::Ready("builtin:caches")),
    (
        "disk images and virtual machines",
        OftenSkipped::Rule("skip *.iso *.img *.qcow2 *.vdi *.vmdk *.vhdx nocase"),
    ),
    ("files larger than 1 GiB", OftenSkipped::Rule("skip over 1 GiB")),
    ("system directories (/proc, /sys, /tmp …)", OftenSkipped::Ready("builtin:system")),
];

/// Where a plan writes it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OftenSkipped {
    /// A name in `rules-from`.
    Ready(&'static str),
    /// A line of `rules`.
    Rule(&'static str),
}
