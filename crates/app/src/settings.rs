//! Settings: defaults, then a file, then the environment (`GOLD_TILLER_…`), then flags.

use std::net::IpAddr;
use std::path::Path;

use anyhow::Context;
use config::{Config, Environment, File};
use serde::Deserialize;

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
    /// Connections to the database at most.
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
        sources = sources
            .add_source(
                Environment::with_prefix("GOLD_TILLER").prefix_separator("_").try_parsing(true),
            )
            .set_override_option("database_url", flags.database_url.clone())?
            .set_override_option("host", flags.host.map(|h| h.to_string()))?
            .set_override_option("port", flags.port)?
            .set_override_option("demo", flags.demo.then_some(true))?;
        sources.build()?.try_deserialize().context("the settings can’t be used")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn flags_win_over_the_file_and_mistakes_are_named() {
        let dir = std::env::temp_dir().join(format!("gold-tiller-settings-{}", std::process::id()));
        std::fs::create_dir_all(&dir).unwrap();
        let file = dir.join("settings.toml");
        std::fs::write(&file, "port = 9000\nhttps = true\n").unwrap();
        let settings =
            Settings::load(Some(&file), &Flags { port: Some(9001), ..Flags::default() }).unwrap();
        assert_eq!((settings.port, settings.https, settings.connections), (9001, true, 20));
        std::fs::write(&file, "prot = 9000\n").unwrap();
        let error = format!("{:#}", Settings::load(Some(&file), &Flags::default()).unwrap_err());
        assert!(error.contains("prot"), "{error}");
        std::fs::remove_dir_all(dir).unwrap();
    }
}
