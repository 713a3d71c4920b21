//! Keys under which secrets rest in the database. They lie in a file beside it, so that a copy of the database alone
//! opens no second factor.

use crate::server::digest::first_bytes;
use aes_gcm::aead::{Aead, Payload};
use aes_gcm::{Aes256Gcm, KeyInit, Nonce};
use sha2::{Digest, Sha256};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use upland_store::{Store, StoreError};

/// What a sealed secret begins with; a plain one is shorter than what follows it.
const SEALED: u8 = 1;
const NAME_BYTES: usize = 8;
const NONCE_BYTES: usize = 12;
const KEY_BYTES: usize = 32;
/// Marker, name of the key, nonce and tag: a sealed secret is longer than this, a plain one is not.
const OVERHEAD: usize = 1 + NAME_BYTES + NONCE_BYTES + 16;

/// The keys of an installation: the first seals, all of them open.
#[derive(Clone, Default)]
pub struct Keys(Vec<Key>);

#[derive(Clone)]
struct Key {
    /// The first bytes of the key's SHA-256: which key sealed something, and nothing of the key.
    name: [u8; NAME_BYTES],
    cipher: Aes256Gcm,
}

impl Key {
    fn of(bytes: &[u8; KEY_BYTES]) -> Self {
        Self { name: first_bytes(&Sha256::digest(bytes)), cipher: Aes256Gcm::new(bytes.into()) }
    }
}

impl std::fmt::Debug for Keys {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(formatter, "{} keys", self.0.len())
    }
}

/// Why a secret cannot be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum KeyFault {
    /// The server has no key file.
    None,
    /// No key of the file sealed it.
    Unknown,
    /// It was changed, or belongs to somebody else.
    Broken,
}

impl KeyFault {
    /// What is wrong and what to do, for the log and the page.
    pub const fn words(self) -> &'static str {
        match self {
            Self::None => "this server has no key file; set UPLAND_KEY_FILE",
            Self::Unknown => "the key that sealed this second factor is not in the key file of this server",
            Self::Broken => "this second factor was changed in the database; take it away and set it up anew",
        }
    }
}

fn new_line() -> String {
    format!("{}\n", hex::encode(rand::random::<[u8; KEY_BYTES]>()))
}

/// A file that only its owner reads, put in place whole; one that is there stays, or is replaced.
fn write_private(path: &Path, text: &str, replaces: bool) -> std::io::Result<()> {
    let beside = path.with_extension(format!("new-{}", std::process::id()));
    let mut options = std::fs::OpenOptions::new();
    let mut file = options.write(true).create_new(true).mode(0o600).open(&beside)?;
    let written = file.write_all(text.as_bytes()).and_then(|()| file.sync_all());
    let placed = written.and_then(|()| match replaces {
        true => std::fs::rename(&beside, path),
        // Of two servers that start at once one makes it, and both read that one.
        false => std::fs::hard_link(&beside, path).or_else(|error| match error.kind() {
            std::io::ErrorKind::AlreadyExists => Ok(()),
            _ => Err(error),
        }),
    });
    let _ = std::fs::remove_file(&beside);
    placed
}

impl Keys {
    /// The keys of a file: one a line, 64 hexadecimal digits each; the file is made with one key where there is none.
    ///
    /// # Errors
    /// What is wrong with the file, in words.
    pub fn of_file(path: &Path) -> Result<Self, String> {
        let fault = |error: std::io::Error| format!("the key file {}: {error}", path.display());
        let text = match std::fs::read_to_string(path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                if let Some(folder) = path.parent() {
                    std::fs::create_dir_all(folder).map_err(fault)?;
                }
                write_private(path, &new_line(), false).map_err(fault)?;
                std::fs::read_to_string(path).map_err(fault)?
            }
            Err(error) => return Err(fault(error)),
        };
        let mut keys = Vec::new();
        for (at, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
            let mut bytes = [0; KEY_BYTES];
            hex::decode_to_slice(line.trim(), &mut bytes).map_err(|_| {
                format!("the key file {}: line {} is not 64 hexadecimal digits", path.display(), at + 1)
            })?;
            keys.push(Key::of(&bytes));
        }
        if keys.is_empty() {
            return Err(format!("the key file {} is empty; restore it, or remove it", path.display()));
        }
        Ok(Self(keys))
    }

    /// Puts a new key before those of a file: from the next start it seals, and what the others sealed is sealed anew.
    ///
    /// # Errors
    /// What is wrong with the file, in words.
    pub fn rotate(path: &Path) -> Result<(), String> {
        Self::of_file(path)?;
        let fault = |error: std::io::Error| format!("the key file {}: {error}", path.display());
        let text = std::fs::read_to_string(path).map_err(fault)?;
        write_private(path, &(new_line() + &text), true).map_err(fault)
    }

    /// Seals a secret of a person.
    pub(crate) fn seal(&self, user: i64, secret: &[u8]) -> Result<Vec<u8>, KeyFault> {
        let key = self.0.first().ok_or(KeyFault::None)?;
        let nonce = rand::random::<[u8; NONCE_BYTES]>();
        // A secret moved to another person does not open.
        let payload = Payload { msg: secret, aad: &user.to_be_bytes() };
        let sealed = key.cipher.encrypt(Nonce::from_slice(&nonce), payload).map_err(|_| KeyFault::Broken)?;
        Ok([&[SEALED][..], &key.name, &nonce, &sealed].concat())
    }

    /// Opens what was sealed for a person. Secrets from before there were keys are plain.
    pub(crate) fn open(&self, user: i64, rests: &[u8]) -> Result<Vec<u8>, KeyFault> {
        if rests.len() < OVERHEAD {
            return Ok(rests.to_vec());
        }
        let (name, rest) =
            rests.get(1..).and_then(|r| r.split_at_checked(NAME_BYTES)).ok_or(KeyFault::Broken)?;
        let (nonce, sealed) = rest.split_at_checked(NONCE_BYTES).ok_or(KeyFault::Broken)?;
        let missing = if self.0.is_empty() { KeyFault::None } else { KeyFault::Unknown };
        let key = self.0.iter().find(|key| key.name == name).ok_or(missing)?;
        let payload = Payload { msg: sealed, aad: &user.to_be_bytes() };
        key.cipher.decrypt(Nonce::from_slice(nonce), payload).map_err(|_| KeyFault::Broken)
    }

    /// Whether the first key sealed it.
    fn is_fresh(&self, rests: &[u8]) -> bool {
        let name = rests.get(1..=NAME_BYTES).filter(|_| rests.len() >= OVERHEAD);
        name.is_some() && name == self.0.first().map(|key| &key.name[..])
    }

    /// Seals every second factor of a database with the first key. Returns how many were not yet.
    ///
    /// # Errors
    /// When a factor does not open with any of the keys, and as any query.
    pub fn seal_all(&self, store: &Store) -> Result<usize, StoreError> {
        let mut sealed = 0;
        for own in store.factors_at_rest()? {
            if self.is_fresh(&own.secret) {
                continue;
            }
            let unusable =
                |fault: KeyFault| StoreError::Unknown { what: "second factor", value: fault.words().into() };
            let secret = self.open(own.user_id, &own.secret).map_err(unusable)?;
            let anew = self.seal(own.user_id, &secret).map_err(unusable)?;
            sealed += usize::from(store.reseal_factor(own.user_id, &own.secret, &anew)?);
        }
        Ok(sealed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keys(seeds: &[u8]) -> Keys {
        Keys(seeds.iter().map(|seed| Key::of(&[*seed; KEY_BYTES])).collect())
    }

    #[test]
    fn what_is_sealed_opens_for_its_person_alone_and_with_its_key() {
        let one = keys(&[1]);
        let rests = one.seal(7, b"12345678901234567890").unwrap();
        assert!(!rests.windows(4).any(|part| part == b"1234"), "nothing of the secret shows");
        assert_eq!(one.open(7, &rests).unwrap(), b"12345678901234567890");
        assert_eq!(one.open(8, &rests), Err(KeyFault::Broken));
        assert_eq!(keys(&[2]).open(7, &rests), Err(KeyFault::Unknown));
        assert_eq!(Keys::default().open(7, &rests), Err(KeyFault::None));
        assert_eq!(Keys::default().seal(7, b"x"), Err(KeyFault::None));
        for at in 0..rests.len() {
            let mut other = rests.clone();
            other[at] ^= 1;
            assert!(at == 0 || one.open(7, &other).is_err(), "changed at {at}");
        }
        assert_eq!(one.open(7, b"12345678901234567890").unwrap(), b"12345678901234567890", "from before");
    }

    #[test]
    fn a_new_key_seals_and_the_old_one_still_opens() {
        let rests = keys(&[1]).seal(7, b"secret").unwrap();
        let both = keys(&[2, 1]);
        assert!(!both.is_fresh(&rests) && both.open(7, &rests).unwrap() == b"secret");
        let anew = both.seal(7, b"secret").unwrap();
        assert!(both.is_fresh(&anew) && keys(&[2]).open(7, &anew).unwrap() == b"secret");
        assert!(!both.is_fresh(b"12345678901234567890"));
    }

    #[test]
    fn a_key_file_is_made_private_once_rotated_and_refused_where_it_is_wrong() {
        use std::os::unix::fs::PermissionsExt;
        let folder = std::env::temp_dir().join(format!("upland-keys-{}", std::process::id()));
        let path = folder.join("own/keys");
        let first = Keys::of_file(&path).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let rests = first.seal(1, b"secret").unwrap();
        assert_eq!(Keys::of_file(&path).unwrap().open(1, &rests).unwrap(), b"secret");
        Keys::rotate(&path).unwrap();
        let both = Keys::of_file(&path).unwrap();
        assert_eq!((both.0.len(), both.is_fresh(&rests)), (2, false));
        assert_eq!(both.open(1, &rests).unwrap(), b"secret");
        std::fs::write(&path, "0123\n").unwrap();
        assert!(Keys::of_file(&path).unwrap_err().ends_with("line 1 is not 64 hexadecimal digits"));
        std::fs::write(&path, "\n").unwrap();
        assert!(Keys::of_file(&path).unwrap_err().contains("is empty"));
        std::fs::remove_dir_all(&folder).unwrap();
    }
}
