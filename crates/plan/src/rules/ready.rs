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
