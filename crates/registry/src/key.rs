//! People's SSH keys: finding one, signing with it by file or agent, and verifying.
//!
//! A signature is one of OpenSSH's (`PROTOCOL.sshsig`) with the namespace [`NAMESPACE`], so that `ssh-keygen -Y verify` can
//! judge it too.

use std::fmt;
use std::path::{Path, PathBuf};

use rsa::signature::{SignatureEncoding, Signer as _};
use serde::{Deserialize, Serialize};
use ssh_encoding::{Decode, Encode};
use ssh_key::private::KeypairData;
use ssh_key::{HashAlg, PrivateKey, PublicKey, SshSig};

/// What signatures of registries are for: one that was made for something else does not hold here.
pub const NAMESPACE: &str = "textum-registry";

/// The fingerprint of a public key, such as `SHA256:…`, as `ssh-keygen -l` prints it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct KeyId(pub String);

impl KeyId {
    /// Of a public key.
    pub fn of(key: &PublicKey) -> KeyId {
        KeyId(key.fingerprint(HashAlg::Sha256).to_string())
    }

    /// The beginning, as shown to people.
    pub fn short(&self) -> &str {
        self.0.get(..15).unwrap_or(&self.0)
    }
}

impl fmt::Display for KeyId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Why a key is of no use.
#[derive(Debug, thiserror::Error)]
pub enum KeyError {
    /// It cannot be read.
    #[error("the key {} cannot be read: {what}", path.display())]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        what: String,
    },
    /// A text is no public key.
    #[error("{0:?} is no public key of OpenSSH")]
    NotPublic(String),
    /// It is protected by a passphrase, and no agent has it.
    #[error("the key {} is protected by a passphrase, and no SSH agent has it", .0.display())]
    Protected(PathBuf),
    /// Only the public half is there, and no agent has the other.
    #[error("of the key {0} only the public half is here, and no SSH agent has the other")]
    OnlyPublic(String),
    /// It cannot sign.
    #[error("the key {key} cannot sign: {what}")]
    CannotSign {
        /// Its fingerprint.
        key: String,
        /// Why.
        what: String,
    },
}

/// What signs.
pub enum Signer {
    /// A private key.
    File(Box<PrivateKey>),
    /// An agent that holds the private key of this public one.
    Agent {
        /// Where it listens.
        socket: PathBuf,
        /// The key.
        key: Box<PublicKey>,
    },
}

/// A public key out of its line, `TYPE BASE64 [COMMENT]`.
pub fn public_key(line: &str) -> Result<PublicKey, KeyError> {
    let shown = || KeyError::NotPublic(line.trim().chars().take(60).collect());
    if line.len() > 64 << 10 {
        return Err(shown());
    }
    PublicKey::from_openssh(line.trim()).map_err(|_| shown())
}

/// The line of a public key without its comment.
pub fn public_line(key: &PublicKey) -> String {
    let mut key = key.clone();
    key.set_comment("");
    key.to_openssh().map(|line| line.trim().to_string()).unwrap_or_default()
}

fn agent_has(socket: Option<&Path>, key: &PublicKey) -> Option<Signer> {
    let socket = socket?;
    let mut agent = ssh_agent_client_rs::Client::connect(socket).ok()?;
    let there = agent.list_all_identities().ok()?;
    there
        .iter()
        .any(|known| matches!(known, ssh_agent_client_rs::Identity::PublicKey(k) if k.key_data() == key.key_data()))
        .then(|| Signer::Agent { socket: socket.to_path_buf(), key: Box::new(key.clone()) })
}

impl Signer {
    /// The signer that a word names: the file of a private key or of a public one, or a public key itself (with or without
    /// `key::` before it, as git writes it). `agent` is where the SSH agent listens, if there is one.
    pub fn named(word: &str, agent: Option<&Path>) -> Result<Signer, KeyError> {
        let literal = word.strip_prefix("key::").unwrap_or(word);
        if let Ok(key) = public_key(literal) {
            return agent_has(agent, &key).ok_or_else(|| KeyError::OnlyPublic(KeyId::of(&key).0));
        }
        let path = PathBuf::from(word);
        let unreadable = |what: String| KeyError::Unreadable { path: path.clone(), what };
        let text = std::fs::read_to_string(&path).map_err(|e| unreadable(e.to_string()))?;
        if let Ok(key) = public_key(&text) {
            let private = path.with_extension("");
            return match private != path && private.is_file() {
                true => Signer::named(&private.to_string_lossy(), agent),
                false => agent_has(agent, &key).ok_or_else(|| KeyError::OnlyPublic(KeyId::of(&key).0)),
            };
        }
        let key = PrivateKey::from_openssh(&text).map_err(|e| unreadable(e.to_string()))?;
        match key.is_encrypted() {
            true => agent_has(agent, key.public_key()).ok_or(KeyError::Protected(path)),
            false => Ok(Signer::File(Box::new(key))),
        }
    }

    /// The public key.
    pub fn public(&self) -> &PublicKey {
        match self {
            Signer::File(key) => key.public_key(),
            Signer::Agent { key, .. } => key,
        }
    }

    /// The fingerprint of it.
    pub fn id(&self) -> KeyId {
        KeyId::of(self.public())
    }

    /// The signature of a message: the bytes that stand, in base 64, between the lines of an OpenSSH signature file.
    pub fn sign(&self, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        let cannot = |what: String| KeyError::CannotSign { key: self.id().0, what };
        let signature = match self {
            Signer::File(key) => match key.key_data() {
                KeypairData::Rsa(pair) => by_rsa(key.public_key(), pair, message).map_err(cannot)?,
                _ => key.sign(NAMESPACE, HashAlg::Sha512, message).map_err(|e| cannot(e.to_string()))?,
            },
            Signer::Agent { socket, key } => {
                let data = SshSig::signed_data(NAMESPACE, HashAlg::Sha512, message).map_err(|e| cannot(e.to_string()))?;
                let mut agent = ssh_agent_client_rs::Client::connect(socket).map_err(|e| cannot(e.to_string()))?;
                let signed = agent.sign(&**key, &data).map_err(|e| cannot(e.to_string()))?;
                SshSig::new(key.key_data().clone(), NAMESPACE, HashAlg::Sha512, signed).map_err(|e| cannot(e.to_string()))?
            }
        };
        let mut bytes = Vec::new();
        signature.encode(&mut bytes).map_err(|e| cannot(e.to_string()))?;
        // What does not hold must not be handed out: an agent may answer anything.
        verify(&bytes, message).map_err(cannot)?;
        Ok(bytes)
    }
}

/// A signature by RSA. The crate that knows OpenSSH's forms takes one prime for both (0.6), so that the crate below it is asked.
fn by_rsa(public: &PublicKey, pair: &ssh_key::private::RsaKeypair, message: &[u8]) -> Result<SshSig, String> {
    let told = |e: &dyn fmt::Display| e.to_string();
    let number =
        |n: &ssh_key::Mpint| n.as_positive_bytes().map(rsa::BigUint::from_bytes_be).ok_or("a number of the key is negative");
    let primes = vec![number(&pair.private.p)?, number(&pair.private.q)?];
    let (n, e, d) = (number(&pair.public.n)?, number(&pair.public.e)?, number(&pair.private.d)?);
    let key = rsa::RsaPrivateKey::from_components(n, e, d, primes).map_err(|e| told(&e))?;
    let data = SshSig::signed_data(NAMESPACE, HashAlg::Sha512, message).map_err(|e| told(&e))?;
    let signed = rsa::pkcs1v15::SigningKey::<rsa::sha2::Sha512>::new(key).try_sign(&data).map_err(|e| told(&e))?;
    let algorithm = ssh_key::Algorithm::Rsa { hash: Some(HashAlg::Sha512) };
    let signed = ssh_key::Signature::new(algorithm, signed.to_vec()).map_err(|e| told(&e))?;
    SshSig::new(public.key_data().clone(), NAMESPACE, HashAlg::Sha512, signed).map_err(|e| told(&e))
}

/// The key that made this signature of this message; what is wrong with it otherwise.
pub fn verify(signature: &[u8], message: &[u8]) -> Result<PublicKey, String> {
    let mut rest = signature;
    let read = SshSig::decode(&mut rest).map_err(|e| format!("it is no signature of OpenSSH: {e}"))?;
    // What is read leniently could be written in two ways.
    let mut again = Vec::new();
    if !rest.is_empty() || read.encode(&mut again).is_err() || again != signature {
        return Err("it is not written as OpenSSH writes it".to_string());
    }
    if read.version() != 1 {
        return Err(format!("it is of version {}, not of 1", read.version()));
    }
    if read.namespace() != NAMESPACE {
        return Err(format!("it was made for {:?}, not for {NAMESPACE:?}", read.namespace()));
    }
    let key = PublicKey::from(read.public_key().clone());
    key.verify(NAMESPACE, message, &read).map_err(|_| "it does not fit what was signed".to_string())?;
    Ok(key)
}

#[cfg(test)]
mod tests {
    use super::*;
    use ssh_key::{Algorithm, EcdsaCurve, LineEnding};

    fn keys() -> Vec<PrivateKey> {
        let mut random = ssh_key::rand_core::OsRng;
        let ecdsa = Algorithm::Ecdsa { curve: EcdsaCurve::NistP256 };
        vec![PrivateKey::random(&mut random, Algorithm::Ed25519).unwrap(), PrivateKey::random(&mut random, ecdsa).unwrap()]
    }

    #[test]
    fn what_is_signed_holds_and_anything_else_does_not() {
        for key in keys() {
            let signer = Signer::File(Box::new(key.clone()));
            let signature = signer.sign(b"loom L07").unwrap();
            assert_eq!(KeyId::of(&verify(&signature, b"loom L07").unwrap()), signer.id());
            assert!(verify(&signature, b"loom L08").is_err());
            for at in 0..signature.len() {
                let mut bad = signature.clone();
                bad[at] ^= 1;
                // A flipped bit in the key that it names makes it somebody else's, for whom it does not hold.
                assert!(verify(&bad, b"loom L07").is_err(), "byte {at}");
                assert!(verify(&signature[..at], b"loom L07").is_err(), "cut at {at}");
            }
            assert!(verify(&[&signature[..], b"x"].concat(), b"loom L07").is_err());
            let other = key.sign("file", HashAlg::Sha512, b"loom L07").unwrap();
            let mut bytes = Vec::new();
            other.encode(&mut bytes).unwrap();
            assert!(verify(&bytes, b"loom L07").unwrap_err().contains("made for"));
        }
    }

    #[test]
    fn a_signer_is_found_by_file_and_what_is_none_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("id_ed25519");
        let key = keys().remove(0);
        std::fs::write(&path, key.to_openssh(LineEnding::LF).unwrap().as_bytes()).unwrap();
        std::fs::write(path.with_extension("pub"), key.public_key().to_openssh().unwrap()).unwrap();
        let id = KeyId::of(key.public_key());
        let named = |word: &str| Signer::named(word, None);
        assert_eq!(named(path.to_str().unwrap()).unwrap().id(), id);
        assert_eq!(named(path.with_extension("pub").to_str().unwrap()).unwrap().id(), id);
        let line = public_line(key.public_key());
        assert!(matches!(named(&line), Err(KeyError::OnlyPublic(_))));
        assert!(matches!(named(&format!("key::{line}")), Err(KeyError::OnlyPublic(_))));
        std::fs::remove_file(&path).unwrap();
        assert!(matches!(named(path.with_extension("pub").to_str().unwrap()), Err(KeyError::OnlyPublic(_))));
        assert!(matches!(named("/nowhere"), Err(KeyError::Unreadable { .. })));
        std::fs::write(&path, "not a key").unwrap();
        assert!(matches!(named(path.to_str().unwrap()), Err(KeyError::Unreadable { .. })));
        assert!(public_key("ssh-ed25519 AAAA").is_err() && public_key("").is_err());
    }
}
