//! Which addresses a connection may lead to: those of the public internet, and what whoever runs the server lists beside
//! them. Whoever may connect a channel names an address, and the server asks it: without this it would ask its own
//! database, or its neighbours, for them.

use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;
use std::sync::{Arc, LazyLock};

use ipnet::IpNet;
use reqwest::Url;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};

use super::ChannelError;

/// Networks that are nobody's on the public internet, or lead to others behind our back: the special-purpose registries of
/// IANA for IPv4 and IPv6 (RFC 6890, kept up to date there) and multicast (RFC 5771, RFC 4291).
const NOT_PUBLIC: [&str; 28] = [
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.0.0.0/24",
    "192.0.2.0/24",
    "192.88.99.0/24",
    "192.168.0.0/16",
    "198.18.0.0/15",
    "198.51.100.0/24",
    "203.0.113.0/24",
    "224.0.0.0/4",
    "240.0.0.0/4",
    "::/128",
    "::1/128",
    "::/96",
    "64:ff9b::/96",
    "64:ff9b:1::/48",
    "100::/64",
    "2001::/23",
    "2001:db8::/32",
    "2002::/16",
    "3fff::/20",
    "fc00::/7",
    "fe80::/10",
    "ff00::/8",
];

/// Loopback, for what is tried on one machine.
const LOOPBACK: [&str; 2] = ["127.0.0.0/8", "::1/128"];

static SPECIAL: LazyLock<Vec<IpNet>> = LazyLock::new(|| networks(&NOT_PUBLIC));

fn networks(texts: &[&str]) -> Vec<IpNet> {
    texts.iter().filter_map(|text| text.parse().ok()).collect()
}

/// What connections may lead to: the public internet, and the networks that are listed.
#[derive(Clone, Debug, Default)]
pub struct Reach {
    listed: Arc<[IpNet]>,
}

impl Reach {
    /// Itself, and this machine: for the demo, whose market is a neighbour.
    pub fn and_this_machine(&self) -> Self {
        let listed = self.listed.iter().copied().chain(networks(&LOOPBACK));
        Self { listed: listed.collect() }
    }

    /// Whether a connection may lead to an address.
    pub fn allows(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        let among = |nets: &[IpNet]| nets.iter().any(|net| net.contains(&address));
        among(&self.listed) || !among(&SPECIAL)
    }

    /// Refuses an address that is written in figures; names are looked at when they are resolved.
    pub(super) fn check(&self, url: &Url) -> Result<(), ChannelError> {
        let host = url.host_str().unwrap_or_default();
        match host.trim_matches(['[', ']']).parse() {
            Ok(address) if !self.allows(address) => Err(ChannelError::Inside(host.to_owned())),
            _ => Ok(()),
        }
    }
}

/// Networks with commas between, such as `10.1.0.0/16, 127.0.0.1`.
impl FromStr for Reach {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let named = text.split(',').map(str::trim).filter(|name| !name.is_empty());
        let read = named.map(|name| {
            let network = name.parse().or_else(|_| name.parse::<IpAddr>().map(IpNet::from));
            network.map_err(|_| {
                format!("‘{name}’ is no network; write such as 10.1.0.0/16, or an address")
            })
        });
        Ok(Self { listed: read.collect::<Result<_, _>>()? })
    }
}

/// A name leads to nothing that a connection may lead to.
#[derive(Debug, thiserror::Error)]
#[error("{0} leads to no public address")]
pub(super) struct LeadsInside(pub String);

/// Looks names up, and leaves out what a connection may not lead to: what it connects to is what was looked at.
impl Resolve for Reach {
    fn resolve(&self, name: Name) -> Resolving {
        let reach = self.clone();
        Box::pin(async move {
            let found = tokio::net::lookup_host((name.as_str(), 0)).await?;
            let allowed: Vec<SocketAddr> = found.filter(|a| reach.allows(a.ip())).collect();
            if allowed.is_empty() {
                return Err(LeadsInside(name.as_str().to_owned()).into());
            }
            Ok(Box::new(allowed.into_iter()) as Addrs)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn may(reach: &Reach, address: &str) -> bool {
        reach.allows(address.parse().unwrap())
    }

    #[test]
    fn every_network_of_the_list_can_be_read() {
        assert_eq!(SPECIAL.len(), NOT_PUBLIC.len());
        assert_eq!(networks(&LOOPBACK).len(), LOOPBACK.len());
    }

    #[test]
    fn what_is_not_public_is_out_of_reach_however_it_is_written() {
        let reach = Reach::default();
        for inside in [
            "127.0.0.1",
            "127.8.9.1",
            "0.0.0.0",
            "10.0.0.5",
            "172.31.255.255",
            "192.168.1.1",
            "169.254.169.254",
            "100.64.0.1",
            "224.0.0.1",
            "255.255.255.255",
            "::",
            "::1",
            "fe80::1",
            "fd00::8",
            "ff02::1",
            "::ffff:127.0.0.1",
            "::ffff:10.0.0.5",
            "::127.0.0.1",
            "64:ff9b::7f00:1",
            "2002:7f00:1::",
        ] {
            assert!(!may(&reach, inside), "{inside}");
        }
        for outside in ["126.0.0.1", "172.32.0.1", "100.128.0.1", "2a00::1", "::ffff:126.0.0.1"] {
            assert!(may(&reach, outside), "{outside}");
        }
    }

    #[test]
    fn what_is_listed_can_be_reached_and_no_more() {
        let reach: Reach = "10.1.0.0/16, 192.168.7.7,fd00:8::/32".parse().unwrap();
        for (address, expected) in [
            ("10.1.200.3", true),
            ("10.2.0.1", false),
            ("192.168.7.7", true),
            ("192.168.7.8", false),
            ("fd00:8::1", true),
            ("::ffff:10.1.0.1", true),
            ("127.0.0.1", false),
        ] {
            assert_eq!(may(&reach, address), expected, "{address}");
        }
        assert!(may(&reach.and_this_machine(), "127.0.0.1"));
        assert!("10.1.0.0/16, here".parse::<Reach>().unwrap_err().contains("‘here’"));
    }

    #[tokio::test]
    async fn a_name_is_judged_by_what_it_leads_to() {
        let name = || Name::from_str("localhost").unwrap();
        let Err(refused) = Reach::default().resolve(name()).await else {
            panic!("localhost is this machine")
        };
        assert!(refused.downcast_ref::<LeadsInside>().is_some(), "{refused}");
        let found = Reach::default().and_this_machine().resolve(name()).await.unwrap();
        assert!(found.into_iter().all(|a| a.ip().is_loopback()));
    }
}
