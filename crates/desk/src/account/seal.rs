//! Tokens at rest: sealed by a key that the database doesn't have, so that neither a copy of it nor a row that is moved to
//! another account opens an account at a channel.

use std::str::FromStr;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use chacha20poly1305::aead::{Aead, AeadCore, KeyInit, OsRng, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use tiller_core::ids::AccountId;

/// Bytes of a key.
const KEY: usize = 32;
/// Bytes that are drawn for each seal: enough never to be drawn twice (`XChaCha20`, draft-irtf-cfrg-xchacha).
const NONCE: usize = 24;

/// The key of a server.
#[derive(Clone)]
pub struct Key(XChaCha20Poly1305);

impl std::fmt::Debug for Key {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Key")
    }
}

impl Key {
    /// A key that nobody else has, and that is forgotten with the program.
    pub fn drawn() -> Self {
        Self(XChaCha20Poly1305::new(&XChaCha20Poly1305::generate_key(&mut OsRng)))
    }

    /// A token as an account keeps it: what was drawn, then what is sealed.
    pub fn seal(&self, account: AccountId, token: &str) -> Vec<u8> {
        let nonce: [u8; NONCE] = XChaCha20Poly1305::generate_nonce(&mut OsRng).into();
        let what = Payload { msg: token.as_bytes(), aad: &account.0.to_be_bytes() };
        // A token is far from the 256 GB at which this fails; what is drawn alone doesn't open.
        let bytes = self.0.encrypt(&XNonce::from(nonce), what).unwrap_or_default();
        [&nonce, &bytes[..]].concat()
    }

    /// The token, if it was sealed by this key for this account.
    pub fn open(&self, account: AccountId, sealed: &[u8]) -> Option<String> {
        let (nonce, bytes) = sealed.split_first_chunk::<NONCE>()?;
        let what = Payload { msg: bytes, aad: &account.0.to_be_bytes() };
        String::from_utf8(self.0.decrypt(&XNonce::from(*nonce), what).ok()?).ok()
    }
}

/// 32 bytes in base64, as `head -c 32 /dev/urandom | base64` writes them.
impl FromStr for Key {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let bytes = BASE64_STANDARD.decode(text.trim()).ok().filter(|bytes| bytes.len() == KEY);
        let cipher = bytes.and_then(|bytes| XChaCha20Poly1305::new_from_slice(&bytes).ok());
        let told = "the key that seals tokens is not 32 bytes in base64; make one with: head -c 32 /dev/urandom | base64";
        cipher.map(Self).ok_or_else(|| told.to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ONE: AccountId = AccountId(1);

    #[test]
    fn a_token_opens_with_its_key_for_its_account_only() {
        let key = Key::drawn();
        let sealed = key.seal(ONE, "amberfold-school-practice");
        assert_eq!(key.open(ONE, &sealed).as_deref(), Some("amberfold-school-practice"));
        assert_eq!(key.open(AccountId(2), &sealed), None, "another account");
        assert_eq!(Key::drawn().open(ONE, &sealed), None, "another key");
        for place in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[place] ^= 1;
            assert_eq!(key.open(ONE, &changed), None, "byte {place} was changed");
        }
        for short in [0, 5, NONCE, sealed.len() - 1] {
            assert_eq!(key.open(ONE, &sealed[..short]), None, "{short} bytes");
        }
    }

    #[test]
    fn the_same_token_is_never_sealed_alike_and_never_stands_in_its_seal() {
        let (key, token) = (Key::drawn(), "amberfold-school-practice");
        let sealed = key.seal(ONE, token);
        assert_ne!(sealed, key.seal(ONE, token));
        assert!(!sealed.windows(token.len()).any(|w| w == token.as_bytes()));
    }

    #[test]
    fn a_key_is_read_as_it_is_written() {
        let written = BASE64_STANDARD.encode([7; KEY]);
        let key: Key = format!("{written}\n").parse().unwrap();
        let again: Key = written.parse().unwrap();
        assert_eq!(again.open(ONE, &key.seal(ONE, "x")).as_deref(), Some("x"));
        for wrong in ["", "short", &BASE64_STANDARD.encode([7; KEY - 1]), "not base64 at all!"] {
            assert!(wrong.parse::<Key>().unwrap_err().contains("32 bytes"), "{wrong}");
        }
        assert_eq!(format!("{key:?}"), "Key", "logs don’t tell it");
    }
}
