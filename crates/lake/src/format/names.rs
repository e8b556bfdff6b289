//! How files and folders are called: those of a log, and those of tables.

use std::fmt;

/// The folder of a table's log.
pub(crate) const LOG: &str = "_delta_log";

/// What a file of a log is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum LogFile {
    /// The commit that makes this version.
    Commit(u64),
    /// All up to this version, in one file.
    Checkpoint(u64),
    /// A part of all up to this version: which one, of how many.
    Part(u64, u32, u32),
}

impl LogFile {
    /// What a file of this name is; none if it is none of a log's that is read here.
    pub(crate) fn parse(name: &str) -> Option<Self> {
        let version = |text: &str| (text.len() == 20).then(|| text.parse().ok()).flatten();
        let (number, rest) = name.split_once('.')?;
        let number = version(number)?;
        match rest {
            "json" => Some(Self::Commit(number)),
            "checkpoint.parquet" => Some(Self::Checkpoint(number)),
            _ => {
                let parts = rest.strip_prefix("checkpoint.")?.strip_suffix(".parquet")?;
                let (part, of) = parts.split_once('.')?;
                Some(Self::Part(number, part.parse().ok()?, of.parse().ok()?))
            }
        }
    }
}

impl fmt::Display for LogFile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Commit(version) => write!(f, "{version:020}.json"),
            Self::Checkpoint(version) => write!(f, "{version:020}.checkpoint.parquet"),
            Self::Part(version, part, of) => {
                write!(f, "{version:020}.checkpoint.{part:010}.{of:010}.parquet")
            }
        }
    }
}

/// The folder of a table with this name. What a path, an address or a reader could take for something else stands as `~` and two
/// hexadecimal digits a byte: `~` has no meaning of its own in any of them.
pub(crate) fn folder_of(table: &str) -> String {
    let plain = |at: usize, b: u8| match b {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' => true,
        // In front they would make it hidden.
        b'_' | b'-' | b'.' => at > 0,
        _ => false,
    };
    let mut out = String::with_capacity(table.len());
    for (at, b) in table.bytes().enumerate() {
        if plain(at, b) { out.push(char::from(b)) } else { out.push_str(&format!("~{b:02x}")) }
    }
    out
}

/// The table whose folder is called so; none if it is no name that [`folder_of`] gives.
pub(crate) fn table_of(folder: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(folder.len());
    let mut rest = folder.as_bytes();
    while let Some((&first, behind)) = rest.split_first() {
        rest = behind;
        if first != b'~' {
            bytes.push(first);
            continue;
        }
        let (digits, behind) = rest.split_at_checked(2)?;
        bytes.push(u8::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()?);
        rest = behind;
    }
    let name = String::from_utf8(bytes).ok()?;
    (folder_of(&name) == folder).then_some(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn files_of_a_log_are_told() {
        for file in [LogFile::Commit(7), LogFile::Checkpoint(u64::MAX / 2), LogFile::Part(3, 1, 12)] {
            assert_eq!(LogFile::parse(&file.to_string()), Some(file));
        }
        assert_eq!(LogFile::Commit(12).to_string(), "00000000000000000012.json");
        for other in
            ["7.json", "_last_checkpoint", "00000000000000000007.json.tmp", "00000000000000000007.crc"]
        {
            assert_eq!(LogFile::parse(other), None, "{other}");
        }
    }

    #[rstest::rstest]
    #[case("stays", "stays")]
    #[case("public.Stays", "public.Stays")]
    #[case("_delta_log", "~5fdelta_log")]
    #[case("..", "~2e.")]
    #[case("a/b", "a~2fb")]
    #[case("Liegeplätze 50%", "Liegepl~c3~a4tze~2050~25")]
    fn a_folder_is_called_after_its_table(#[case] table: &str, #[case] folder: &str) {
        assert_eq!(folder_of(table), folder);
        assert_eq!(table_of(folder).as_deref(), Some(table));
    }

    proptest! {
        #[test]
        fn every_name_has_a_folder_of_its_own(table in "\\PC{1,30}", other in "[~a-f0-9A-Z._-]{0,12}") {
            let folder = folder_of(&table);
            prop_assert_eq!(table_of(&folder), Some(table));
            prop_assert!(!folder.starts_with(['_', '.']) && !folder.contains(['/', '%', '\\']));
            if let Some(name) = table_of(&other) {
                prop_assert_eq!(folder_of(&name), other);
            }
        }
    }
}
