//! An entry with its signature: DSSE, version 1 (<https://github.com/secure-systems-lab/dsse>).

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};

use crate::entry::Entry;
use crate::key::{self, KeyError, KeyId, Signer};

/// What the payload of an envelope is.
pub const PAYLOAD_TYPE: &str = "application/vnd.textum.registry-entry+json";
/// No entry is larger. In bytes.
pub const LARGEST: usize = 4 << 20;

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
struct Envelope {
    payload: String,
    payload_type: String,
    signatures: Vec<Signature>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Signature {
    keyid: String,
    sig: String,
}

/// By whom an entry is signed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Signed {
    /// By nobody.
    No,
    /// By this key.
    By(KeyId),
    /// The signature does not hold.
    Wrong(String),
}

impl Signed {
    /// What an entry is that this signs; none signs nothing.
    pub fn of(signer: Option<&Signer>) -> Signed {
        signer.map_or(Signed::No, |signer| Signed::By(signer.id()))
    }
}

/// What is signed: the pre-authentication encoding of DSSE.
pub fn signed_bytes(payload_type: &str, payload: &[u8]) -> Vec<u8> {
    let mut bytes = format!("DSSEv1 {} {payload_type} {} ", payload_type.len(), payload.len()).into_bytes();
    bytes.extend_from_slice(payload);
    bytes
}

/// An envelope around any payload.
pub fn seal_payload(payload_type: &str, payload: &[u8], signer: Option<&Signer>) -> Result<Vec<u8>, KeyError> {
    let signatures = match signer {
        None => Vec::new(),
        Some(signer) => {
            let sig = STANDARD.encode(signer.sign(&signed_bytes(payload_type, payload))?);
            vec![Signature { keyid: signer.id().0, sig }]
        }
    };
    let envelope = Envelope { payload: STANDARD.encode(payload), payload_type: payload_type.to_string(), signatures };
    Ok(serde_json::to_vec(&envelope).unwrap_or_default())
}

/// An entry in its envelope.
pub fn seal(entry: &Entry, signer: Option<&Signer>) -> Result<Vec<u8>, KeyError> {
    let payload = serde_json_canonicalizer::to_vec(entry).unwrap_or_default();
    seal_payload(PAYLOAD_TYPE, &payload, signer)
}

/// The entry in an envelope, and by whom it is signed. An error is an envelope that holds none.
pub fn open(bytes: &[u8]) -> Result<(Entry, Signed), String> {
    if bytes.len() > LARGEST {
        return Err(format!("it is larger than {LARGEST} bytes"));
    }
    let envelope: Envelope = serde_json::from_slice(bytes).map_err(|e| format!("it is no envelope: {e}"))?;
    if envelope.payload_type != PAYLOAD_TYPE {
        return Err(format!("it holds {:?}, not {PAYLOAD_TYPE:?}", envelope.payload_type.chars().take(80).collect::<String>()));
    }
    let payload = STANDARD.decode(&envelope.payload).map_err(|e| format!("its payload is not base 64: {e}"))?;
    let entry = Entry::read(&payload)?;
    let signed = match envelope.signatures.as_slice() {
        [] => Signed::No,
        [one] => match STANDARD.decode(&one.sig) {
            Err(e) => Signed::Wrong(format!("it is not base 64: {e}")),
            Ok(sig) => match key::verify(&sig, &signed_bytes(PAYLOAD_TYPE, &payload)) {
                Err(what) => Signed::Wrong(what),
                Ok(key) if KeyId::of(&key).0 != one.keyid => Signed::Wrong("it was made by another key than it says".to_string()),
                Ok(key) => Signed::By(KeyId::of(&key)),
            },
        },
        _ => Signed::Wrong("there are several signatures".to_string()),
    };
    Ok((entry, signed))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_signed_is_the_encoding_of_the_standard() {
        // The example of the DSSE protocol, version 1.
        assert_eq!(
            signed_bytes("http://example.com/HelloWorld", b"hello world"),
            b"DSSEv1 29 http://example.com/HelloWorld 11 hello world"
        );
    }

    #[test]
    fn anything_else_is_no_envelope() {
        let other = seal_payload("text/plain", b"{}", None).unwrap();
        let untyped = seal_payload(PAYLOAD_TYPE, b"{}", None).unwrap();
        for bad in [&b""[..], b"{}", b"[]", b"\xff", &other, &untyped] {
            assert!(open(bad).is_err(), "{}", String::from_utf8_lossy(bad));
        }
        assert!(open(&vec![b' '; LARGEST + 1]).unwrap_err().contains("larger"));
    }
}
