//! What files of weights say of themselves: safetensors, ONNX and GGUF. Only the head is read, and everything in it is
//! hostile until checked.

use std::io::Read;

use textum_registry::{Header, Tensor};

use crate::store::{Digest, Store};

/// A head is at most so long, in bytes.
const MOST: u64 = 32 << 20;
/// So many tensors are told by name.
const TOLD: usize = 12;

/// What a stored file says of itself, going by its name; none where it is no such file.
pub fn header_of(store: &Store, path: &str, digest: &Digest) -> Option<Header> {
    let read: fn(&[u8]) -> Option<Header> = match path.rsplit('.').next()? {
        "safetensors" => safetensors,
        "onnx" => onnx,
        "gguf" => gguf,
        _ => return None,
    };
    let mut bytes = Vec::new();
    store.reader(digest).ok()?.take(MOST).read_to_end(&mut bytes).ok()?;
    read(&bytes)
}

fn printable(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(120).collect()
}

/// Counts a tensor, and keeps it if it is among the first.
fn take(header: &mut Header, name: &str, kind: &str, shape: &[u64]) {
    count(header, shape);
    if header.some.len() < TOLD {
        let shape = shape.iter().map(u64::to_string).collect();
        header.some.push(Tensor { name: printable(name), kind: printable(kind), shape });
    }
}

fn count(header: &mut Header, shape: &[u64]) {
    header.tensors += 1;
    let values = shape.iter().try_fold(1_u64, |all, n| all.checked_mul(*n)).unwrap_or(u64::MAX);
    header.values = header.values.saturating_add(values);
}

/// <https://huggingface.co/docs/safetensors>: the length of a JSON text in 8 bytes, the text, the numbers.
fn safetensors(bytes: &[u8]) -> Option<Header> {
    let length = usize::try_from(u64::from_le_bytes(bytes.get(..8)?.try_into().ok()?)).ok()?;
    let text = bytes.get(8..8_usize.checked_add(length)?)?;
    let map: serde_json::Map<String, serde_json::Value> = serde_json::from_slice(text).ok()?;
    let mut header = Header { format: "safetensors".to_string(), ..Header::default() };
    for (name, tensor) in &map {
        if name == "__metadata__" {
            let facts = tensor.as_object().into_iter().flatten().take(TOLD);
            header.facts.extend(facts.filter_map(|(k, v)| Some((printable(k), printable(v.as_str()?)))));
            continue;
        }
        let shape: Vec<u64> = tensor.get("shape")?.as_array()?.iter().map(serde_json::Value::as_u64).collect::<Option<_>>()?;
        take(&mut header, name, tensor.get("dtype")?.as_str()?, &shape);
    }
    Some(header)
}

/// Reads along bytes, never beyond their end.
struct Along<'b> {
    rest: &'b [u8],
}

impl<'b> Along<'b> {
    fn bytes(&mut self, length: u64) -> Option<&'b [u8]> {
        let (taken, rest) = self.rest.split_at_checked(usize::try_from(length).ok()?)?;
        self.rest = rest;
        Some(taken)
    }

    fn u32(&mut self) -> Option<u32> {
        Some(u32::from_le_bytes(self.bytes(4)?.try_into().ok()?))
    }

    fn u64(&mut self) -> Option<u64> {
        Some(u64::from_le_bytes(self.bytes(8)?.try_into().ok()?))
    }

    fn text(&mut self) -> Option<String> {
        let length = self.u64()?;
        Some(String::from_utf8_lossy(self.bytes(length)?).into_owned())
    }

    fn varint(&mut self) -> Option<u64> {
        let mut value = 0_u64;
        for shift in (0..64).step_by(7) {
            let byte = self.bytes(1)?[0];
            value |= u64::from(byte & 0x7f).checked_shl(shift)?;
            if byte & 0x80 == 0 {
                return Some(value);
            }
        }
        None
    }

    /// The next field of a Protocol Buffers message: its number, and a number or bytes.
    fn field(&mut self) -> Option<(u64, u64, &'b [u8])> {
        let key = self.varint()?;
        match key & 7 {
            0 => Some((key >> 3, self.varint()?, &[])),
            1 => self.bytes(8).map(|b| (key >> 3, 0, b)),
            2 => {
                let length = self.varint()?;
                // What is cut off by the bound on a head is the weights: what stands before them is of use all the same.
                let length = length.min(self.rest.len() as u64);
                self.bytes(length).map(|b| (key >> 3, length, b))
            }
            5 => self.bytes(4).map(|b| (key >> 3, 0, b)),
            _ => None,
        }
    }
}

fn fields(bytes: &[u8]) -> impl Iterator<Item = (u64, u64, &[u8])> {
    let mut along = Along { rest: bytes };
    std::iter::from_fn(move || if along.rest.is_empty() { None } else { along.field() })
}

const ONNX_TYPES: [&str; 17] = [
    "undefined",
    "float",
    "uint8",
    "int8",
    "uint16",
    "int16",
    "int32",
    "int64",
    "string",
    "bool",
    "float16",
    "double",
    "uint32",
    "uint64",
    "complex64",
    "complex128",
    "bfloat16",
];

fn onnx_type(number: u64) -> String {
    ONNX_TYPES.get(usize::try_from(number).unwrap_or(usize::MAX)).map_or_else(|| format!("type {number}"), ToString::to_string)
}

/// A `ValueInfoProto`: what a graph takes in or gives.
fn onnx_value(bytes: &[u8], role: &str) -> Tensor {
    let mut tensor = Tensor::default();
    for (number, _, inner) in fields(bytes) {
        match number {
            1 => tensor.name = format!("{role} {}", printable(&String::from_utf8_lossy(inner))),
            2 => {
                for (_, _, of_tensor) in fields(inner).filter(|f| f.0 == 1) {
                    for (number, value, shape) in fields(of_tensor) {
                        match number {
                            1 => tensor.kind = onnx_type(value),
                            2 => tensor.shape = fields(shape).filter(|f| f.0 == 1).map(|(_, _, dim)| onnx_dimension(dim)).collect(),
                            _ => {}
                        }
                    }
                }
            }
            _ => {}
        }
    }
    tensor
}

fn onnx_dimension(bytes: &[u8]) -> String {
    let found = fields(bytes).find_map(|(number, value, name)| match number {
        1 => Some(value.to_string()),
        2 => Some(printable(&String::from_utf8_lossy(name))),
        _ => None,
    });
    found.unwrap_or_else(|| "?".to_string())
}

/// `ModelProto` of <https://github.com/onnx/onnx/blob/main/onnx/onnx.proto>.
fn onnx(bytes: &[u8]) -> Option<Header> {
    let mut header = Header { format: "ONNX".to_string(), ..Header::default() };
    let mut graphs = 0;
    for (number, value, inner) in fields(bytes) {
        match number {
            1 => drop(header.facts.insert("ir".to_string(), value.to_string())),
            2 => drop(header.facts.insert("producer".to_string(), printable(&String::from_utf8_lossy(inner)))),
            8 => {
                let domain = fields(inner).find(|f| f.0 == 1).map(|f| printable(&String::from_utf8_lossy(f.2))).unwrap_or_default();
                let version = fields(inner).find(|f| f.0 == 2).map_or(0, |f| f.1);
                let name = if domain.is_empty() { "opset".to_string() } else { format!("opset of {domain}") };
                header.facts.insert(name, version.to_string());
            }
            7 => {
                graphs += 1;
                for (number, _, part) in fields(inner) {
                    match number {
                        5 => {
                            let shape: Vec<u64> = fields(part).filter(|f| f.0 == 1).flat_map(|f| dimensions(f.1, f.2)).collect();
                            count(&mut header, &shape);
                        }
                        11 if header.some.len() < TOLD => header.some.push(onnx_value(part, "input")),
                        12 if header.some.len() < TOLD => header.some.push(onnx_value(part, "output")),
                        _ => {}
                    }
                }
            }
            _ => {}
        }
    }
    (graphs > 0).then_some(header)
}

/// Whole numbers of a repeated field: one by one, or packed.
fn dimensions(value: u64, packed: &[u8]) -> Vec<u64> {
    if packed.is_empty() {
        return vec![value];
    }
    let mut along = Along { rest: packed };
    std::iter::from_fn(|| if along.rest.is_empty() { None } else { along.varint() }).collect()
}

/// The size in bytes of a value of GGUF's; none of a text or a list.
fn gguf_size(kind: u32) -> Option<u64> {
    Some(match kind {
        0 | 1 | 7 => 1,
        2 | 3 => 2,
        4..=6 => 4,
        10..=12 => 8,
        _ => return None,
    })
}

fn gguf_value(along: &mut Along<'_>, kind: u32, depth: u8) -> Option<String> {
    match kind {
        8 => along.text().map(|text| printable(&text)),
        9 if depth < 4 => {
            let (of, count) = (along.u32()?, along.u64()?);
            match gguf_size(of) {
                Some(size) => drop(along.bytes(size.checked_mul(count)?)?),
                None => {
                    for _ in 0..count {
                        gguf_value(along, of, depth + 1)?;
                    }
                }
            }
            Some(format!("{count} values"))
        }
        kind => {
            let bytes = along.bytes(gguf_size(kind)?)?;
            let mut wide = [0; 8];
            wide[..bytes.len()].copy_from_slice(bytes);
            Some(match kind {
                6 => f32::from_le_bytes(bytes.try_into().ok()?).to_string(),
                12 => f64::from_le_bytes(wide).to_string(),
                1 => i8::from_le_bytes([bytes[0]]).to_string(),
                3 => i16::from_le_bytes(bytes.try_into().ok()?).to_string(),
                5 => i32::from_le_bytes(bytes.try_into().ok()?).to_string(),
                11 => i64::from_le_bytes(wide).to_string(),
                _ => u64::from_le_bytes(wide).to_string(),
            })
        }
    }
}

/// <https://github.com/ggml-org/ggml/blob/master/docs/gguf.md>, versions 2 and 3.
fn gguf(bytes: &[u8]) -> Option<Header> {
    let mut along = Along { rest: bytes.strip_prefix(b"GGUF")? };
    let version = along.u32().filter(|version| matches!(version, 2 | 3))?;
    let (tensors, values) = (along.u64()?, along.u64()?);
    let mut header = Header { format: "GGUF".to_string(), ..Header::default() };
    header.facts.insert("version".to_string(), version.to_string());
    for _ in 0..values {
        let (name, kind) = (along.text()?, along.u32()?);
        let value = gguf_value(&mut along, kind, 0)?;
        if header.facts.len() < TOLD && name.starts_with("general.") {
            header.facts.insert(printable(&name), value);
        }
    }
    for _ in 0..tensors {
        let (name, dimensions) = (along.text()?, along.u32().filter(|n| *n <= 8)?);
        let shape: Vec<u64> = (0..dimensions).map(|_| along.u64()).collect::<Option<_>>()?;
        let kind = match along.u32()? {
            0 => "F32".to_string(),
            1 => "F16".to_string(),
            30 => "BF16".to_string(),
            other => format!("type {other}"),
        };
        along.u64()?;
        take(&mut header, &name, &kind, &shape);
    }
    Some(header)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn some_safetensors() -> Vec<u8> {
        let text = r#"{"__metadata__":{"format":"pt"},"w":{"dtype":"F32","shape":[2,3],"data_offsets":[0,24]},"b":{"dtype":"F16","shape":[],"data_offsets":[24,26]}}"#;
        [&(text.len() as u64).to_le_bytes()[..], text.as_bytes(), &[0; 26]].concat()
    }

    fn some_gguf() -> Vec<u8> {
        let text = |s: &str| [&(s.len() as u64).to_le_bytes()[..], s.as_bytes()].concat();
        let mut bytes = [b"GGUF".as_slice(), &3_u32.to_le_bytes(), &1_u64.to_le_bytes(), &2_u64.to_le_bytes()].concat();
        bytes.extend([text("general.architecture"), 8_u32.to_le_bytes().to_vec(), text("loom")].concat());
        let list = [9_u32.to_le_bytes(), 8_u32.to_le_bytes()].concat();
        bytes.extend([text("tokenizer.tokens"), list, 2_u64.to_le_bytes().to_vec(), text("warp"), text("weft")].concat());
        bytes
            .extend([text("w"), 2_u32.to_le_bytes().to_vec(), 4_u64.to_le_bytes().to_vec(), 5_u64.to_le_bytes().to_vec()].concat());
        bytes.extend([0_u32.to_le_bytes().to_vec(), 0_u64.to_le_bytes().to_vec()].concat());
        bytes
    }

    fn some_onnx() -> Vec<u8> {
        let field = |number: u8, bytes: &[u8]| [&[number << 3 | 2, bytes.len() as u8][..], bytes].concat();
        let dims = [field(1, &field(2, b"batch")), field(1, &[8, 7])].concat();
        let of_tensor = [vec![8, 1], field(2, &dims)].concat();
        let value = [field(1, b"x"), field(2, &field(1, &of_tensor))].concat();
        let weights = [field(1, &[7, 3]), field(8, b"w")].concat();
        let graph = [field(5, &weights), field(11, &value)].concat();
        [vec![8, 9], field(7, &graph), field(8, &[16, 17])].concat()
    }

    #[test]
    fn files_of_weights_say_what_is_in_them() {
        let found = safetensors(&some_safetensors()).unwrap();
        assert_eq!((found.tensors, found.values, found.facts["format"].as_str()), (2, 7, "pt"));
        assert_eq!(found.some[0], Tensor { name: "w".into(), kind: "F32".into(), shape: vec!["2".into(), "3".into()] });
        let found = gguf(&some_gguf()).unwrap();
        assert_eq!((found.tensors, found.values, found.facts["general.architecture"].as_str()), (1, 20, "loom"));
        let found = onnx(&some_onnx()).unwrap();
        assert_eq!((found.tensors, found.values, found.facts["opset"].as_str()), (1, 21, "17"));
        assert_eq!(found.some[0], Tensor { name: "input x".into(), kind: "float".into(), shape: vec!["batch".into(), "7".into()] });
    }

    #[test]
    fn whatever_is_cut_or_changed_is_no_reason_to_fall() {
        for (read, bytes) in
            [(safetensors as fn(&[u8]) -> Option<Header>, some_safetensors()), (gguf, some_gguf()), (onnx, some_onnx())]
        {
            for at in 0..bytes.len() {
                let _ = read(&bytes[..at]);
                for value in [0, 1, 0x7f, 0x80, 0xff] {
                    let mut bad = bytes.clone();
                    bad[at] = value;
                    let _ = read(&bad);
                }
            }
        }
    }
}
