//! The servers of the made-up world, and the stores at them.

use std::{
    fs,
    path::{Path, PathBuf},
};

use skellin_standins::{
    s3::{Bucket, SimulatedS3},
    sftp::{Account, SimulatedSftp},
};

use super::files::{failed, private, write};
use crate::cli::error::CliError;

/// What guards the simulated servers: nothing.
const PASSWORD: &str = "sandpipers and knots";

/// The servers of the station's world, as long as this lives.
pub(super) struct Servers {
    pub mast: SimulatedSftp,
    pub pier: SimulatedSftp,
    pub offshore: SimulatedS3,
}

impl Servers {
    /// Starts them, their files below the world's directory.
    pub fn start(world: &Path) -> Result<Self, CliError> {
        let folder = world.join("far");
        let cannot = |error: std::io::Error| failed(&folder, &error);
        fs::create_dir_all(&folder).map_err(cannot)?;
        let account =
            Account { user: "keeper".to_owned(), password: PASSWORD.to_owned(), key: None };
        let sftp = |host: &str| {
            let key = folder.join(format!("{host}.key"));
            SimulatedSftp::start(folder.join(host), account.clone(), &key, None).map_err(cannot)
        };
        let (mast, pier) = (sftp("mast")?, sftp("pier")?);
        let bucket = Bucket {
            name: "fennick-ridge".to_owned(),
            region: "north-1".to_owned(),
            id: "hut".to_owned(),
            secret: PASSWORD.to_owned(),
        };
        let offshore = SimulatedS3::start(folder.join("offshore"), bucket, None).map_err(cannot)?;
        Ok(Self { mast, pier, offshore })
    }

    /// Where the mast's files lie.
    pub fn mast_files(world: &Path) -> PathBuf {
        world.join("far/mast")
    }

    /// What the servers are logged in with.
    pub fn secrets(world: &Path) -> Result<(), CliError> {
        private(&world.join("mast.password"), PASSWORD)?;
        private(&world.join("pier.password"), PASSWORD)
    }

    /// The mast as it stands in `hosts.toml`.
    pub fn hosts(&self, world: &Path) -> String {
        format!(
            "[mast]\n{MAST}{}\nuser = \"keeper\"\npassword = {{ file = \"{}\" }}\nknown-hosts = \"{}\"\n",
            self.mast.address().port(),
            world.join("mast.password").display(),
            world.join("known_hosts").display(),
        )
    }

    /// The stores at them as they stand in `stores.toml`.
    pub fn stores(&self, world: &Path) -> Result<String, CliError> {
        Self::secrets(world)?;
        let (password, credentials, known) =
            (world.join("pier.password"), world.join("offshore.key"), world.join("known_hosts"));
        private(&credentials, &format!("id = \"hut\"\nsecret = \"{PASSWORD}\"\n"))?;
        let passphrase = passphrase(world);
        Ok(format!(
            "\n[pier]\nplace = \"{PIER}{port}/srv/skellin\"\npassword = {{ file = \"{password}\" }}\nknown-hosts = \"{known}\"\n{passphrase}\n\
             [offshore]\nplace = \"s3://fennick-ridge/hut\"\nendpoint = \"{OFFSHORE}{}\"\nregion = \"north-1\"\ncredentials = {{ file = \"{credentials}\" }}\n{passphrase}{PRICES}",
            self.offshore.address().port(),
            port = self.pier.address().port(),
            password = password.display(),
            known = known.display(),
            credentials = credentials.display(),
        ))
    }
}

/// How the places begin, up to the ports, which differ each time the world is opened.
const MAST: &str = "address = \"127.0.0.1\"\nport = ";
const PIER: &str = "sftp://keeper@127.0.0.1:";
const OFFSHORE: &str = "http://127.0.0.1:";

/// What the object storage costs as it is, and by another class.
const PRICES: &str = "price = [
  { name = \"standard\", currency = \"EUR\", gib-month = [[100, 0.021], [1000, 0.019]], fetch-gib = 0.01, put-1000 = 0.005 },
  { name = \"cold\", currency = \"EUR\", gib-month = 0.004, fetch-gib = 0.09, put-1000 = 0.05 },
]\n";

pub(super) fn passphrase(world: &Path) -> String {
    format!("passphrase = {{ file = \"{}\" }}\n", world.join("oak.key").display())
}

/// A text with what follows a beginning, up to the next sign that is no digit, replaced.
fn with_port(text: &str, beginning: &str, port: u16) -> String {
    let Some(at) = text.find(beginning).map(|at| at + beginning.len()) else {
        return text.to_owned();
    };
    let rest = text[at..].trim_start_matches(|c: char| c.is_ascii_digit());
    format!("{}{port}{rest}", &text[..at])
}

impl Servers {
    /// Opens a world that is built already: its servers listen somewhere else now.
    pub fn reopen(world: &Path, config: &Path) -> Result<Self, CliError> {
        let servers = Self::start(world)?;
        let change = |file: &str, ports: &[(&str, u16)]| {
            let file = config.join(file);
            let read = fs::read_to_string(&file).map_err(|error| failed(&file, &error))?;
            let with = |text: String, (of, port): &(&str, u16)| with_port(&text, of, *port);
            write(&file, &ports.iter().fold(read, with))
        };
        let pier = (PIER, servers.pier.address().port());
        change("stores.toml", &[pier, (OFFSHORE, servers.offshore.address().port())])?;
        change("hosts.toml", &[(MAST, servers.mast.address().port())])?;
        servers.is_known(world)?;
        Ok(servers)
    }

    /// Notes the host's key, as if somebody had compared and accepted it.
    pub fn is_known(&self, world: &Path) -> Result<(), CliError> {
        let pier = self.pier.known_as("127.0.0.1", self.pier.address().port());
        let mast = self.mast.known_as("mast", self.mast.address().port());
        write(&world.join("known_hosts"), &format!("{pier}{mast}"))
    }
}
