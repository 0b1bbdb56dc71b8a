//! Settings: defaults, then a file, then the environment (`GOLD_TILLER_…`), then flags.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};

use anyhow::Context;
use config::{Config, Environment, File};
use serde::Deserialize;
use tiller_desk::account::channels::{Channels, Key, Reach};
use tiller_web::LOOPBACK;

/// What our variables begin with.
const PREFIX: &str = "GOLD_TILLER_";
/// The settings, as variables name them behind that.
const NAMES: [&str; 15] = [
    "database_url",
    "host",
    "port",
    "connections",
    "demo",
    "https",
    "json_logs",
    "smtp",
    "mail_from",
    "hosts",
    "metrics",
    "log",
    "key",
    "key_file",
    "reach",
];
/// Fewer would keep readers waiting for each other.
const LEAST_CONNECTIONS: u32 = 2;

/// All settings of the server.
#[derive(Clone, Debug, Deserialize, PartialEq)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// PostgreSQL, as a URL.
    pub database_url: String,
    /// Address to listen on.
    pub host: IpAddr,
    /// Port to listen on.
    pub port: u16,
    /// Connections to the database at most, for pages; workers have twenty more.
    pub connections: u32,
    /// Offer the demo analyst on the sign-in page.
    pub demo: bool,
    /// Pages are reached over HTTPS: cookies are marked so.
    pub https: bool,
    /// Logs as JSON lines.
    pub json_logs: bool,
    /// The server that takes e-mail, as a URL; without one none is sent.
    #[serde(default)]
    pub smtp: Option<String>,
    /// The address that e-mail comes from.
    #[serde(default)]
    pub mail_from: Option<String>,
    /// The names under which pages may be asked for, with commas between; those of this machine itself where it listens to nobody else.
    #[serde(default)]
    pub hosts: String,
    /// Where `/metrics` is served; nowhere without it.
    #[serde(default)]
    pub metrics: Option<SocketAddr>,
    /// The key that seals the tokens of channels, 32 bytes in base64.
    #[serde(default)]
    pub key: Option<String>,
    /// A file that holds that key.
    #[serde(default)]
    pub key_file: Option<PathBuf>,
    /// Networks that channels may be reached in beside the public internet, with commas between.
    #[serde(default)]
    pub reach: String,
    /// Which logs are written, such as `info,sqlx=warn`.
    pub log: String,
}

/// What flags may set; what they leave out follows from the file and the environment.
#[derive(Clone, Debug, Default)]
pub struct Flags {
    /// `--database-url`, or the variable `DATABASE_URL`.
    pub database_url: Option<String>,
    /// `--host`.
    pub host: Option<IpAddr>,
    /// `--port`.
    pub port: Option<u16>,
    /// `--demo`.
    pub demo: bool,
}

impl Settings {
    /// Reads all sources.
    pub fn load(file: Option<&Path>, flags: &Flags) -> anyhow::Result<Self> {
        let texts = std::env::vars_os()
            .filter_map(|(name, value)| name.into_string().ok().zip(value.into_string().ok()));
        Self::from_sources(file, texts, flags)
    }

    fn from_sources(
        file: Option<&Path>,
        environment: impl IntoIterator<Item = (String, String)>,
        flags: &Flags,
    ) -> anyhow::Result<Self> {
        let mut sources = Config::builder()
            .set_default("database_url", "postgres://localhost/gold_tiller")?
            .set_default("host", "127.0.0.1")?
            .set_default("port", 8400)?
            .set_default("connections", 20)?
            .set_default("demo", false)?
            .set_default("https", false)?
            .set_default("json_logs", false)?
            .set_default("log", "info,sqlx=warn")?;
        if let Some(file) = file {
            sources = sources.add_source(File::from(file));
        }
        // Whatever runs containers sets variables of its own beside ours, such as GOLD_TILLER_SERVICE_HOST.
        let ours = environment.into_iter().filter(|(name, _)| {
            name.strip_prefix(PREFIX)
                .is_some_and(|n| NAMES.iter().any(|known| n.eq_ignore_ascii_case(known)))
        });
        let ours: HashMap<String, String> = ours.collect();
        sources = sources
            .add_source(
                Environment::with_prefix("GOLD_TILLER")
                    .prefix_separator("_")
                    .try_parsing(true)
                    .source(Some(ours)),
            )
            .set_override_option("database_url", flags.database_url.clone())?
            .set_override_option("host", flags.host.map(|h| h.to_string()))?
            .set_override_option("port", flags.port)?
            .set_override_option("demo", flags.demo.then_some(true))?;
        let settings: Self =
            sources.build()?.try_deserialize().context("the settings can’t be used")?;
        settings.checked()
    }

    /// Themselves, if they go together.
    fn checked(self) -> anyhow::Result<Self> {
        anyhow::ensure!(
            self.connections >= LEAST_CONNECTIONS,
            "connections is {}: pages need at least {LEAST_CONNECTIONS}",
            self.connections
        );
        anyhow::ensure!(
            !self.demo || self.host.is_loopback(),
            "the demo lets anybody in who reaches it, so it is for this machine only: leave out --demo, or --host {}",
            self.host
        );
        anyhow::ensure!(
            self.host.is_loopback() || !self.hosts.trim().is_empty(),
            "set the names under which people reach this server: hosts = \"desk.example\", or GOLD_TILLER_HOSTS"
        );
        Ok(self)
    }

    /// How channels are reached: the demo's market is on this machine.
    pub fn channels(&self) -> anyhow::Result<Channels> {
        let reach: Reach =
            self.reach.parse().map_err(anyhow::Error::msg).context("reach can’t be used")?;
        let reach = if self.demo { reach.and_this_machine() } else { reach };
        Ok(Channels { reach, key: self.token_key()? })
    }

    fn token_key(&self) -> anyhow::Result<Key> {
        let text = match (&self.key, &self.key_file) {
            (Some(_), Some(_)) => anyhow::bail!("set either key or key_file, not both"),
            (Some(key), None) => key.clone(),
            (None, Some(file)) => std::fs::read_to_string(file)
                .with_context(|| format!("the key file {} can’t be read", file.display()))?,
            (None, None) => anyhow::bail!(
                "there is no key to seal the tokens of channels with. Make one, once, and keep it: \
                 (umask 077; head -c 32 /dev/urandom | base64 > KEY), then set GOLD_TILLER_KEY_FILE=KEY"
            ),
        };
        text.parse().map_err(anyhow::Error::msg)
    }

    /// The names under which pages may be asked for.
    pub fn host_names(&self) -> Vec<String> {
        let own = self.host.is_loopback().then_some(LOOPBACK).into_iter().flatten();
        let named = self.hosts.split(',').map(str::trim).filter(|n| !n.is_empty());
        own.chain(named).map(str::to_owned).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// As [`Settings::load`], whatever the environment that tests run in.
    fn load(file: &Path, flags: &Flags) -> anyhow::Result<Settings> {
        Settings::from_sources(Some(file), [], flags)
    }

    #[test]
    fn flags_win_over_the_file_and_mistakes_are_named() {
        let dir = std::env::temp_dir().join(format!("gold-tiller-settings-{}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        let file = dir.join("settings.toml");
        std::fs::write(&file, "port = 9000\nhttps = true\n").unwrap();
        let settings = load(&file, &Flags { port: Some(9001), ..Flags::default() }).unwrap();
        assert_eq!((settings.port, settings.https, settings.connections), (9001, true, 20));
        for (text, says) in [
            ("connections = 0", "at least 2"),
            ("demo = true\nhost = \"0.0.0.0\"", "for this machine only"),
            ("host = \"0.0.0.0\"", "GOLD_TILLER_HOSTS"),
        ] {
            std::fs::write(&file, text).unwrap();
            let error = format!("{:#}", load(&file, &Flags::default()).unwrap_err());
            assert!(error.contains(says), "{error}");
        }
        std::fs::write(&file, "host = \"0.0.0.0\"\nhosts = \"desk.example, other.example\"")
            .unwrap();
        let named = load(&file, &Flags::default()).unwrap().host_names();
        assert_eq!(named, ["desk.example", "other.example"]);
        let key = "BwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwc=";
        let with = |text: &str| {
            std::fs::write(&file, text).unwrap();
            load(&file, &Flags::default()).unwrap().channels()
        };
        let key_file = dir.join("key");
        std::fs::write(&key_file, format!("{key}\n")).unwrap();
        let from_file = format!("key_file = \"{}\"", key_file.display());
        for (text, expected) in [
            (format!("key = \"{key}\""), false),
            (format!("key = \"{key}\"\nreach = \"127.0.0.0/8\""), true),
            (format!("{from_file}\ndemo = true"), true),
        ] {
            let channels = with(&text).unwrap();
            assert_eq!(channels.reach.allows([127, 0, 0, 1].into()), expected, "{text}");
        }
        for (text, says) in [
            (String::new(), "GOLD_TILLER_KEY_FILE"),
            ("key = \"short\"".into(), "32 bytes"),
            (format!("key = \"{key}\"\n{from_file}"), "not both"),
            ("key_file = \"/nowhere/key\"".into(), "/nowhere/key"),
            (format!("key = \"{key}\"\nreach = \"next door\""), "‘next door’"),
        ] {
            let error = format!("{:#}", with(&text).unwrap_err());
            assert!(error.contains(says), "{error}");
        }
        std::fs::write(&file, "prot = 9000\n").unwrap();
        let error = format!("{:#}", load(&file, &Flags::default()).unwrap_err());
        assert!(error.contains("prot"), "{error}");
        std::fs::remove_dir_all(dir).unwrap();
    }
}
