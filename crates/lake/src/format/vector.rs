//! Deletion vectors: which rows of a data file are deleted (protocol, "Deletion Vector Format").

use crate::format::action::VectorPlace;
use crate::format::z85;
use roaring::{RoaringBitmap, RoaringTreemap};
use uuid::Uuid;

/// The first four bytes of a vector, little-endian.
const MAGIC: u32 = 1_681_511_377;
/// The first byte of a file of vectors.
const FILE_VERSION: u8 = 1;
/// Larger vectors stand in a file of their own, and only smaller ones in the log, which everyone reads whole.
pub(crate) const INLINE_BYTES: usize = 256;

/// Where a vector's bytes are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Found {
    /// They are here.
    Here(Vec<u8>),
    /// In a file relative to the table: from this byte on so many, the check sum among them.
    InFile(String, u64, u64),
}

/// What stands between a vector in a file and the next: its size before it, and its check sum behind it.
const AROUND: u64 = 8;

/// Writes a vector.
pub(crate) fn encode(rows: &RoaringBitmap) -> std::io::Result<Vec<u8>> {
    let all = RoaringTreemap::from_bitmaps([(0, rows.clone())]);
    let mut out = Vec::with_capacity(4 + all.serialized_size());
    out.extend_from_slice(&MAGIC.to_le_bytes());
    all.serialize_into(&mut out)?;
    Ok(out)
}

/// Reads a vector of a file with so many rows.
///
/// # Errors
/// If it is none, or names a row that the file has not; in words.
pub(crate) fn decode(bytes: &[u8], rows: u64) -> Result<RoaringBitmap, String> {
    let (magic, rest) = bytes.split_first_chunk().ok_or("it is too short")?;
    if u32::from_le_bytes(*magic) != MAGIC {
        return Err("it does not begin as deletion vectors do".into());
    }
    let all = RoaringTreemap::deserialize_from(rest).map_err(|e| e.to_string())?;
    if let Some(last) = all.max().filter(|&last| last >= rows) {
        return Err(format!("it names row {last}, and the file has {rows}"));
    }
    let mut bitmaps = all.bitmaps();
    match (bitmaps.next(), bitmaps.next()) {
        (None, _) => Ok(RoaringBitmap::new()),
        (Some((0, rows)), None) => Ok(rows.clone()),
        _ => Err("it names rows beyond 4294967295".into()),
    }
}

/// Vectors that are written to one file, and where each will be.
pub(crate) struct VectorFile {
    id: Uuid,
    bytes: Vec<u8>,
}

impl VectorFile {
    /// An empty file under a random name.
    pub(crate) fn new(id: Uuid) -> Self {
        Self { id, bytes: vec![FILE_VERSION] }
    }

    /// Puts a vector in it, unless it is small enough for the log.
    pub(crate) fn place(&mut self, rows: &RoaringBitmap) -> std::io::Result<VectorPlace> {
        let vector = encode(rows)?;
        let (size_in_bytes, cardinality) = (vector.len() as i32, rows.len() as i64);
        if vector.len() <= INLINE_BYTES {
            let path_or_inline_dv = z85::encode(&vector);
            let storage_type = "i".into();
            return Ok(VectorPlace {
                storage_type,
                path_or_inline_dv,
                offset: None,
                size_in_bytes,
                cardinality,
            });
        }
        let offset = Some(self.bytes.len() as i32);
        self.bytes.extend_from_slice(&(vector.len() as u32).to_be_bytes());
        self.bytes.extend_from_slice(&vector);
        self.bytes.extend_from_slice(&crc32fast::hash(&vector).to_be_bytes());
        let path_or_inline_dv = z85::encode(self.id.as_bytes());
        Ok(VectorPlace { storage_type: "u".into(), path_or_inline_dv, offset, size_in_bytes, cardinality })
    }

    /// Its name and content; none if there is no vector in it.
    pub(crate) fn finish(self) -> Option<(String, Vec<u8>)> {
        (self.bytes.len() > 1).then(|| (file_name("", &self.id), self.bytes))
    }
}

fn file_name(folder: &str, id: &Uuid) -> String {
    let between = if folder.is_empty() { "" } else { "/" };
    format!("{folder}{between}deletion_vector_{id}.bin")
}

impl VectorPlace {
    /// Where the bytes are.
    ///
    /// # Errors
    /// If it says so in no way that is known; in words.
    pub(crate) fn find(&self) -> Result<Found, String> {
        let size = u64::try_from(self.size_in_bytes).map_err(|_| "its size is below zero")?;
        let from = u64::try_from(self.offset.unwrap_or(0)).map_err(|_| "its place is below zero")?;
        let text = self.path_or_inline_dv.as_str();
        match self.storage_type.as_str() {
            "i" => {
                let mut bytes = z85::decode(text).ok_or("it is not encoded as it should be")?;
                bytes.truncate(size as usize);
                Ok(Found::Here(bytes))
            }
            "u" => {
                // A uuid is 20 digits; what stands before it is a folder.
                let at = text.len().checked_sub(20).filter(|&at| text.is_char_boundary(at));
                let (folder, id) = text.split_at(at.ok_or("its name is too short")?);
                let id = z85::decode(id).and_then(|id| Uuid::from_slice(&id).ok());
                let id = id.ok_or("its name is not encoded as it should be")?;
                Ok(Found::InFile(file_name(folder, &id), from, size + AROUND))
            }
            "p" => Err("it stands at an absolute place, which this version does not read".into()),
            other => Err(format!("it stands in a way that is not known ({other})")),
        }
    }

    /// The vector among the bytes that were [found](Self::find) in a file.
    ///
    /// # Errors
    /// If they are not what was written; in words.
    pub(crate) fn in_file<'a>(&self, bytes: &'a [u8]) -> Result<&'a [u8], String> {
        let (size, rest) = bytes.split_first_chunk().ok_or("it is cut off")?;
        let (vector, sum) = rest.split_last_chunk().ok_or("it is cut off")?;
        let expected = u32::try_from(self.size_in_bytes).unwrap_or_default();
        if u32::from_be_bytes(*size) != expected || vector.len() != expected as usize {
            return Err("its size is not the one in the log".into());
        }
        if u32::from_be_bytes(*sum) != crc32fast::hash(vector) {
            return Err("its check sum is another one".into());
        }
        Ok(vector)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Byte by byte as the protocol tells: the magic number, how many bitmaps, the number of the first, and that bitmap in the
    /// portable form of its standard.
    #[test]
    fn a_vector_is_written_as_the_protocol_tells() {
        let rows: RoaringBitmap = [3u32, 4, 7].into_iter().collect();
        let mut expected = vec![0xd1, 0xd3, 0x39, 0x64, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
        expected.extend([0x3a, 0x30, 0, 0, 1, 0, 0, 0, 0, 0, 2, 0, 16, 0, 0, 0, 3, 0, 4, 0, 7, 0]);
        assert_eq!(encode(&rows).unwrap(), expected);
        assert_eq!(decode(&expected, 8), Ok(rows));
        assert!(decode(&expected, 7).unwrap_err().contains("row 7"), "a row that there is not");
    }

    #[test]
    fn the_name_of_the_protocols_example_is_found() {
        let place = VectorPlace {
            storage_type: "u".into(),
            path_or_inline_dv: "ab^-aqEH.-t@S}K{vb[*k^".into(),
            offset: Some(4),
            size_in_bytes: 40,
            cardinality: 6,
        };
        let name = "ab/deletion_vector_d2c639aa-8816-431a-aaf6-d3fe2512ff61.bin";
        assert_eq!(place.find(), Ok(Found::InFile(name.into(), 4, 48)));
    }

    proptest! {
        #[test]
        fn vectors_come_back(
            all in proptest::collection::vec(proptest::collection::btree_set(0u32..300_000, 0..400), 1..4),
        ) {
            let mut file = VectorFile::new(Uuid::from_u128(7));
            let all: Vec<RoaringBitmap> = all.into_iter().map(|rows| rows.into_iter().collect()).collect();
            let places: Vec<VectorPlace> = all.iter().map(|rows| file.place(rows).unwrap()).collect();
            let written = file.finish();
            for (rows, place) in all.iter().zip(places) {
                let back = match place.find().unwrap() {
                    Found::Here(bytes) => decode(&bytes, 300_000).unwrap(),
                    Found::InFile(name, from, size) => {
                        let (called, bytes) = written.as_ref().unwrap();
                        prop_assert_eq!(called, &name);
                        let bytes = &bytes[from as usize..(from + size) as usize];
                        decode(place.in_file(bytes).unwrap(), 300_000).unwrap()
                    }
                };
                prop_assert_eq!(&back, rows);
            }
        }

        #[test]
        fn nothing_that_is_read_panics(bytes in proptest::collection::vec(any::<u8>(), 0..200), text in "\\PC{0,60}", kind in "[uip]") {
            let mut spoilt = MAGIC.to_le_bytes().to_vec();
            spoilt.extend_from_slice(&bytes);
            let _ = (decode(&bytes, 9), decode(&spoilt, 9));
            let place = VectorPlace { storage_type: kind, path_or_inline_dv: text, offset: Some(1), size_in_bytes: 9, cardinality: 1 };
            let _ = (place.find(), place.in_file(&bytes));
        }
    }
}
