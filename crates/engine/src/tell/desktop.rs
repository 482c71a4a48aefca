//! Notifications on the desktop, over D-Bus (Desktop Notifications Specification 1.2).

use std::{collections::HashMap, time::Duration};

use zbus::{Connection, Variant, connection};

use super::NotSent;
use crate::journal::Message;

/// Shows a message to whoever is logged in as this user.
///
/// # Errors
/// Why nobody saw it.
pub(super) fn notify(message: &Message, patience: Duration) -> Result<(), NotSent> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime =
        runtime.map_err(|error| NotSent::Desktop(format!("cannot start a thread: {error}")))?;
    runtime.block_on(async {
        tokio::time::timeout(patience, show(message))
            .await
            .map_err(|_| NotSent::Desktop("the desktop did not answer in time".to_owned()))?
    })
}

async fn connect() -> Result<Connection, NotSent> {
    // Services and cron are not told where the session is; it is where it always is.
    let builder = match std::env::var_os("DBUS_SESSION_BUS_ADDRESS") {
        Some(_) => connection::Builder::session(),
        None => {
            let user = rustix::process::getuid().as_raw();
            connection::Builder::address(format!("unix:path=/run/user/{user}/bus").as_str())
        }
    };
    let nobody = |error: zbus::Error| {
        NotSent::Desktop(format!(
            "no desktop session of this user ({error}); is somebody logged in? A service of root has no desktop: use mail or a command"
        ))
    };
    builder.build().await.map_err(nobody)
}

async fn show(message: &Message) -> Result<(), NotSent> {
    let connection = connect().await?;
    let urgency = u8::from(matches!(message.topic.as_str(), "failure" | "late")) + 1;
    let hints = HashMap::from([("urgency", Variant::U8(urgency))]);
    let parts = (
        "Skellin",
        0u32,
        "drive-harddisk",
        message.subject.as_str(),
        message.body.as_str(),
        Vec::<&str>::new(),
        hints,
        -1i32,
    );
    let name = "org.freedesktop.Notifications";
    let path = "/org/freedesktop/Notifications";
    let shown = connection.call_method(Some(name), path, Some(name), "Notify", &parts).await;
    shown.map(drop).map_err(|error| {
        NotSent::Desktop(format!("the desktop does not show notifications: {error}"))
    })
}
