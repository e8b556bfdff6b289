//! The messages of the pgoutput plug-in, read from bytes (PostgreSQL manual, section 55.9, protocol
//! version 1). No runtime, no state: bytes in, message or error out.

/// What a message is. Names, values and texts are borrowed from the input.
#[derive(Debug, PartialEq)]
pub enum Message<'a> {
    /// A transaction begins.
    Begin {
        /// Where its commit record is.
        commit_lsn: u64,
        /// Its commit time, in microseconds since 2000-01-01.
        committed_us: i64,
        /// Its number.
        xid: u32,
    },
    /// The transaction is complete.
    Commit {
        /// Where its commit record is.
        commit_lsn: u64,
        /// Just behind it.
        end_lsn: u64,
        /// Its commit time, in microseconds since 2000-01-01.
        committed_us: i64,
    },
    /// Where a transaction came from, on a server that is itself a subscriber.
    Origin,
    /// A text or bytes that someone wrote into the log.
    LogMessage {
        /// Whether it belongs to the current transaction.
        transactional: bool,
        /// Whose it is.
        prefix: &'a [u8],
        /// What it says.
        content: &'a [u8],
    },
    /// The structure of a table, before its first change and again when it may have changed.
    Relation(Relation<'a>),
    /// A user-defined type's name.
    Type,
    /// A new row.
    Insert {
        /// The table.
        relation: u32,
        /// Its values.
        new: Tuple<'a>,
    },
    /// A changed row.
    Update {
        /// The table.
        relation: u32,
        /// The old row, if it was sent.
        old: Option<OldTuple<'a>>,
        /// Its values now.
        new: Tuple<'a>,
    },
    /// A removed row.
    Delete {
        /// The table.
        relation: u32,
        /// The old row.
        old: OldTuple<'a>,
    },
    /// Emptied tables.
    Truncate {
        /// Which.
        relations: Vec<u32>,
    },
}

/// A table's structure in the stream.
#[derive(Debug, PartialEq)]
pub struct Relation<'a> {
    /// Its number.
    pub id: u32,
    /// Its schema; empty for pg_catalog.
    pub schema: &'a str,
    /// Its name.
    pub name: &'a str,
    /// Replica identity: d, n, f or i.
    pub identity: u8,
    /// Its columns.
    pub columns: Vec<RelationColumn<'a>>,
}

/// A column in the stream.
#[derive(Debug, PartialEq)]
pub struct RelationColumn<'a> {
    /// Whether it is part of the replica identity.
    pub in_key: bool,
    /// Its name.
    pub name: &'a str,
    /// Its type's number.
    pub type_id: u32,
    /// Its type's modifier; -1 if it has none.
    pub modifier: i32,
}

/// An old row: its key or all of it.
#[derive(Debug, PartialEq)]
pub struct OldTuple<'a> {
    /// Whether all columns were sent, not only the key's.
    pub whole: bool,
    /// The values.
    pub tuple: Tuple<'a>,
}

/// The values of a row, read one by one.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Tuple<'a> {
    columns: usize,
    bytes: &'a [u8],
}

/// A value in a row.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Field<'a> {
    /// Null.
    Null,
    /// Unchanged and stored out of line, so not in the log.
    Unchanged,
    /// The type's text.
    Text(&'a [u8]),
}

/// A message that is not as the protocol says.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("malformed {what} message in the replication stream")]
pub struct Malformed {
    /// Which kind or part.
    pub what: &'static str,
}

struct Reader<'a> {
    bytes: &'a [u8],
    what: &'static str,
}

impl<'a> Reader<'a> {
    fn malformed(&self) -> Malformed {
        Malformed { what: self.what }
    }

    fn take(&mut self, count: usize) -> Result<&'a [u8], Malformed> {
        let (taken, rest) = self.bytes.split_at_checked(count).ok_or_else(|| self.malformed())?;
        self.bytes = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Malformed> {
        let bytes = self.take(N)?;
        bytes.try_into().map_err(|_| self.malformed())
    }

    fn u8(&mut self) -> Result<u8, Malformed> {
        Ok(self.array::<1>()?[0])
    }
    fn u16(&mut self) -> Result<u16, Malformed> {
        self.array().map(u16::from_be_bytes)
    }
    fn u32(&mut self) -> Result<u32, Malformed> {
        self.array().map(u32::from_be_bytes)
    }
    fn u64(&mut self) -> Result<u64, Malformed> {
        self.array().map(u64::from_be_bytes)
    }
    fn i64(&mut self) -> Result<i64, Malformed> {
        self.array().map(i64::from_be_bytes)
    }

    fn text_bytes(&mut self) -> Result<&'a [u8], Malformed> {
        let end = self.bytes.iter().position(|b| *b == 0).ok_or_else(|| self.malformed())?;
        let text = self.take(end)?;
        self.take(1)?;
        Ok(text)
    }

    fn text(&mut self) -> Result<&'a str, Malformed> {
        let bytes = self.text_bytes()?;
        std::str::from_utf8(bytes).map_err(|_| self.malformed())
    }

    fn tuple(&mut self) -> Result<Tuple<'a>, Malformed> {
        let columns = usize::from(self.u16()?);
        let start = self.bytes;
        for _ in 0..columns {
            self.field()?;
        }
        Ok(Tuple { columns, bytes: &start[..start.len() - self.bytes.len()] })
    }

    fn field(&mut self) -> Result<Field<'a>, Malformed> {
        match self.u8()? {
            b'n' => Ok(Field::Null),
            b'u' => Ok(Field::Unchanged),
            b't' => {
                let length = self.u32()? as usize;
                self.take(length).map(Field::Text)
            }
            _ => Err(self.malformed()),
        }
    }

    fn old(&mut self, kind: u8) -> Result<OldTuple<'a>, Malformed> {
        let whole = match kind {
            b'O' => true,
            b'K' => false,
            _ => return Err(self.malformed()),
        };
        Ok(OldTuple { whole, tuple: self.tuple()? })
    }
}

impl<'a> Tuple<'a> {
    /// How many columns.
    pub fn columns(&self) -> usize {
        self.columns
    }

    /// The values in the order of the relation's columns.
    pub fn fields(&self) -> impl Iterator<Item = Field<'a>> + use<'a> {
        let mut reader = Reader { bytes: self.bytes, what: "row" };
        // Checked when the tuple was read; nothing can be malformed here.
        (0..self.columns).map_while(move |_| reader.field().ok())
    }
}

impl<'a> Message<'a> {
    /// Reads one message.
    ///
    /// # Errors
    /// If it is not one of protocol version 1, or has too few or too many bytes.
    pub fn parse(bytes: &'a [u8]) -> Result<Self, Malformed> {
        let mut reader = Reader { bytes, what: "empty" };
        let kind = reader.u8()?;
        reader.what = name(kind);
        let message = parse_body(kind, &mut reader)?;
        if reader.bytes.is_empty() { Ok(message) } else { Err(reader.malformed()) }
    }
}

fn name(kind: u8) -> &'static str {
    match kind {
        b'B' => "Begin",
        b'C' => "Commit",
        b'O' => "Origin",
        b'M' => "Message",
        b'R' => "Relation",
        b'Y' => "Type",
        b'I' => "Insert",
        b'U' => "Update",
        b'D' => "Delete",
        b'T' => "Truncate",
        _ => "unknown",
    }
}

fn parse_body<'a>(kind: u8, r: &mut Reader<'a>) -> Result<Message<'a>, Malformed> {
    Ok(match kind {
        b'B' => Message::Begin { commit_lsn: r.u64()?, committed_us: r.i64()?, xid: r.u32()? },
        b'C' => {
            r.u8()?;
            Message::Commit { commit_lsn: r.u64()?, end_lsn: r.u64()?, committed_us: r.i64()? }
        }
        b'O' => {
            r.u64()?;
            r.text_bytes()?;
            Message::Origin
        }
        b'M' => {
            let transactional = r.u8()? == 1;
            r.u64()?;
            let prefix = r.text_bytes()?;
            let length = r.u32()? as usize;
            Message::LogMessage { transactional, prefix, content: r.take(length)? }
        }
        b'R' => Message::Relation(relation(r)?),
        b'Y' => {
            r.u32()?;
            r.text_bytes()?;
            r.text_bytes()?;
            Message::Type
        }
        b'I' => {
            let relation = r.u32()?;
            if r.u8()? != b'N' {
                return Err(r.malformed());
            }
            Message::Insert { relation, new: r.tuple()? }
        }
        b'U' => update(r)?,
        b'D' => {
            let relation = r.u32()?;
            let kind = r.u8()?;
            Message::Delete { relation, old: r.old(kind)? }
        }
        b'T' => {
            let count = r.u32()? as usize;
            r.u8()?;
            let relations = (0..count).map(|_| r.u32()).collect::<Result<_, _>>()?;
            Message::Truncate { relations }
        }
        _ => return Err(r.malformed()),
    })
}

fn relation<'a>(r: &mut Reader<'a>) -> Result<Relation<'a>, Malformed> {
    let (id, schema, name, identity) = (r.u32()?, r.text()?, r.text()?, r.u8()?);
    let count = r.u16()?;
    let columns = (0..count)
        .map(|_| {
            let (flags, name, type_id) = (r.u8()?, r.text()?, r.u32()?);
            let modifier = r.u32()?.cast_signed();
            Ok(RelationColumn { in_key: flags & 1 == 1, name, type_id, modifier })
        })
        .collect::<Result<_, Malformed>>()?;
    Ok(Relation { id, schema, name, identity, columns })
}

fn update<'a>(r: &mut Reader<'a>) -> Result<Message<'a>, Malformed> {
    let relation = r.u32()?;
    let old = match r.u8()? {
        b'N' => None,
        kind => {
            let old = r.old(kind)?;
            if r.u8()? != b'N' {
                return Err(r.malformed());
            }
            Some(old)
        }
    };
    Ok(Message::Update { relation, old, new: r.tuple()? })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn update_bytes() -> Vec<u8> {
        let mut b = b"U\x00\x00\x00\x07K\x00\x02t\x00\x00\x00\x011nN\x00\x02t\x00\x00\x00\x012u".to_vec();
        b.shrink_to_fit();
        b
    }

    #[test]
    fn an_update_has_its_old_key_and_its_unchanged_column() {
        let bytes = update_bytes();
        let Ok(Message::Update { relation: 7, old: Some(old), new }) = Message::parse(&bytes) else {
            panic!("{:?}", Message::parse(&bytes))
        };
        assert!(!old.whole);
        assert_eq!(old.tuple.fields().collect::<Vec<_>>(), [Field::Text(b"1"), Field::Null]);
        assert_eq!(new.fields().collect::<Vec<_>>(), [Field::Text(b"2"), Field::Unchanged]);
    }

    #[test]
    fn no_cut_and_no_extra_byte_is_taken_for_a_message() {
        let bytes = update_bytes();
        for end in 0..bytes.len() {
            assert!(Message::parse(&bytes[..end]).is_err(), "cut at {end}");
        }
        assert!(Message::parse(&[&bytes[..], b"x"].concat()).is_err());
        assert_eq!(Message::parse(b"Z"), Err(Malformed { what: "unknown" }));
    }
}
