//! Rows of change tables as blocks of changes.

use super::following::{Followed, Told};
use super::found::{Found, Read};
use super::row_text;
use super::written::Written;
use crate::as_source::structure::types::PresentNames;
use crate::as_source::structure::written::Layout;
use crate::wire::copy_text::fields;
use crate::wire::values::push_text;
use chrono::DateTime;
use moorage_adapter::{AdapterError, Result, StreamTable};
use moorage_core::change::block::ChangeBlock;
use moorage_core::change::builder::{ChangeBlockBuilder, Images};
use moorage_core::change::kind::{ChangeKind, FoundIn, Transaction};
use moorage_core::change::structure::SchemaChange;
use moorage_core::value::column::RowsBuilder;
use moorage_core::{Position, TableName, TableSchema};
use std::borrow::Cow;
use std::sync::Arc;

/// How a change table holds images.
pub(crate) enum Form {
    /// Column by column.
    Earlier,
    /// As whole rows, of these structures.
    Rows(Written),
}

/// Why a change cannot be read.
enum Trouble {
    /// The structure is not the planned one.
    Drift(String),
    /// Anything else, in words.
    Wrong(String),
}

impl<T: Into<String>> From<T> for Trouble {
    fn from(words: T) -> Self {
        Self::Wrong(words.into())
    }
}

type Tried<T> = std::result::Result<T, Trouble>;

/// What stands in front of a change's images.
struct Head {
    number: u64,
    xid: String,
    at: i64,
    /// The order of its transaction in the look; 0 for all where nobody asks for it.
    nth: u64,
    letter: u8,
}

/// A row's values as texts.
type Image = Vec<Option<Vec<u8>>>;

/// Collects the changes that one query gives.
pub(crate) struct Gathered<'a> {
    table: &'a StreamTable,
    now: &'a Position,
    form: Form,
    followed: Option<&'a mut Followed>,
    schema: Arc<TableSchema>,
    block: ChangeBlockBuilder,
    bytes: usize,
    /// The structure of the last row and where its columns stand, where structures are not followed.
    planned: Option<(i64, Vec<usize>)>,
    /// The transaction of the last change: its proof is its number, by which marks are asked.
    last: Option<Arc<Transaction>>,
}

impl<'a> Gathered<'a> {
    pub(crate) fn new(
        table: &'a StreamTable,
        now: &'a Position,
        form: Form,
        followed: Option<&'a mut Followed>,
    ) -> Self {
        let schema = match (&form, &followed) {
            (Form::Rows(_), Some(followed)) => followed.schema().clone(),
            _ => table.plan.schema.clone(),
        };
        let block = ChangeBlockBuilder::new(schema.clone());
        Self { table, now, form, followed, schema, block, bytes: 0, planned: None, last: None }
    }

    pub(crate) fn table(&self) -> &TableName {
        self.table.plan.table()
    }

    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.block.is_empty()
    }

    pub(crate) fn take(&mut self) -> Result<ChangeBlock> {
        self.bytes = 0;
        let empty = ChangeBlockBuilder::new(self.schema.clone());
        Ok(std::mem::replace(&mut self.block, empty).finish()?)
    }

    /// Takes in a line; gives what has to be handed on in front of it.
    ///
    /// # Errors
    /// If it cannot be read, or is of another structure where that is not followed.
    pub(crate) fn line(&mut self, line: &[u8], found: &mut Found) -> Result<Vec<Read>> {
        let before = self.try_line(line.len(), &mut fields(line), found);
        before.map_err(|trouble| {
            let table = self.table.plan.table().clone();
            match trouble {
                Trouble::Drift(what) => AdapterError::Drift { table, what },
                Trouble::Wrong(what) => AdapterError::Value {
                    table: table.to_string(),
                    what: format!("{what}, in its change table"),
                },
            }
        })
    }

    fn try_line<'l>(
        &mut self,
        size: usize,
        fields: &mut impl Iterator<Item = Option<Cow<'l, [u8]>>>,
        found: &mut Found,
    ) -> Tried<Vec<Read>> {
        let head = Head::read(fields)?;
        let mut before = Vec::new();
        let (kind, old, new) = if let Form::Earlier = self.form {
            let (kind, old, new) = head.kind()?;
            for (wanted, rows) in [(old, &mut self.block.old), (new, &mut self.block.new)] {
                push_columns(rows, wanted, fields)?;
            }
            (kind, old, new)
        } else {
            let told = Told::read(fields)?;
            let has_layout = told.as_ref().is_some_and(|t| t.layout.is_some()) && self.followed.is_some();
            let images = [image(fields.next().flatten())?, image(fields.next().flatten())?];
            let places = self.places(&head, told, found, &mut before)?;
            let Some(places) = places else { return Ok(before) };
            if has_layout && let Err(Trouble::Wrong(what)) = self.try_images(&images, &places) {
                // Written by a newer structure than the one that it names.
                self.is_lost(&what, found, &mut before)?;
                return Ok(before);
            }
            let kinds = head.kind()?;
            let Some((kind, old, new)) = in_sum(head.letter, kinds, || self.same_key(&places, &images))
            else {
                return Ok(before);
            };
            self.push_images((old, new), &images, &places)?;
            (kind, old, new)
        };
        let at = DateTime::from_timestamp_micros(head.at).unwrap_or_default();
        let transaction = match &self.last {
            Some(last) if last.proof == head.xid && last.committed_at == at => last.clone(),
            _ => {
                let found = FoundIn { ends: self.now.clone(), nth: head.nth, at };
                let (position, found) = (self.now.clone(), Some(found));
                Arc::new(Transaction { position, proof: head.xid, committed_at: at, found })
            }
        };
        let images = Images { new, old: old.then_some(true), unchanged: None };
        self.block.push(kind, head.number, &transaction, images, size);
        self.last = Some(transaction);
        self.bytes += size;
        found.changes += 1;
        found.newest = found.newest.max(at);
        Ok(before)
    }

    /// Where the columns stand in the row that comes; none if it is left out. What has to be handed on in front of it goes
    /// into `before`.
    fn places(
        &mut self,
        head: &Head,
        told: Option<Told>,
        found: &mut Found,
        before: &mut Vec<Read>,
    ) -> Tried<Option<Vec<usize>>> {
        let Form::Rows(written) = &self.form else { return Ok(None) };
        let altered = "it was altered or rewritten inside a transaction whose triggers change it";
        let Some(followed) = &mut self.followed else {
            if head.letter == b'X' {
                return Err(Trouble::Drift(altered.into()));
            }
            let Some(told) = told else { return Ok(Some(Vec::new())) };
            if self.planned.as_ref().is_none_or(|(number, _)| *number != told.number) {
                let unknown = || Trouble::Drift("what structure its rows have was not written down".into());
                let places = written.get(told.number).ok_or_else(unknown)?.places(&self.table.plan);
                self.planned = Some((told.number, places.map_err(Trouble::Drift)?));
            }
            return Ok(self.planned.as_ref().map(|(_, places)| places.clone()));
        };
        let change = match told {
            _ if head.letter == b'X' && followed.places().is_none() => return Ok(None),
            _ if head.letter == b'X' => Some(followed.is_lost(altered.into())),
            None => None,
            Some(told) => followed.comes(&told, written).map_err(|e| e.to_string())?,
        };
        let places = followed.places().filter(|_| head.letter != b'X');
        let schema = followed.schema().clone();
        if let Some(change) = change {
            self.hand_on(change, schema, found, before)?;
        }
        Ok(places)
    }

    fn is_lost(&mut self, what: &str, found: &mut Found, before: &mut Vec<Read>) -> Tried<()> {
        let Some(followed) = &mut self.followed else { return Ok(()) };
        let change = followed.is_lost(format!("a row has another structure than it names: {what}"));
        let schema = followed.schema().clone();
        self.hand_on(change, schema, found, before)
    }

    /// A change of structure comes, behind what was collected.
    fn hand_on(
        &mut self,
        change: SchemaChange,
        schema: Arc<TableSchema>,
        found: &mut Found,
        before: &mut Vec<Read>,
    ) -> Tried<()> {
        if !self.block.is_empty() {
            before.push(Read::Block(self.take().map_err(|e| e.to_string())?));
        }
        self.schema = schema;
        self.block = ChangeBlockBuilder::new(self.schema.clone());
        found.structures += 1;
        before.push(Read::Change(change));
        Ok(())
    }

    /// Whether images can be read at these places.
    fn try_images(&self, images: &[Image; 2], places: &[usize]) -> Tried<()> {
        let mut rows = ChangeBlockBuilder::new(self.schema.clone());
        let mut there = images.iter().filter(|image| !image.is_empty());
        there.try_for_each(|image| push_places(&mut rows.new, image, places, &PresentNames::default()))
    }

    fn push_images(&mut self, (old, new): (bool, bool), images: &[Image; 2], places: &[usize]) -> Tried<()> {
        let names = self.followed.as_ref().map(|f| f.present_names()).unwrap_or_default();
        let both = [(old, &images[0], &mut self.block.old), (new, &images[1], &mut self.block.new)];
        for (_, image, rows) in both.into_iter().filter(|(wanted, ..)| *wanted) {
            push_places(rows, image, places, &names)?;
        }
        Ok(())
    }

    /// Whether an update leaves the key as it was; without a key, no other row can take its place.
    fn same_key(&self, places: &[usize], [old, new]: &[Image; 2]) -> bool {
        let place = |name: &&str| self.schema.columns.iter().position(|c| c.name == *name);
        let declared = || self.table.plan.schema.key_names().iter().filter_map(place).collect();
        let key: Vec<usize> = self.schema.identity.key().map_or_else(declared, <[usize]>::to_vec);
        key.iter().all(|&k| places.get(k).is_some_and(|&at| old.get(at) == new.get(at)))
    }
}

impl Head {
    fn read<'l>(fields: &mut impl Iterator<Item = Option<Cow<'l, [u8]>>>) -> Tried<Self> {
        let mut text = || {
            let field = fields.next().flatten().ok_or("a row with too few values")?;
            String::from_utf8(field.into_owned()).map_err(|e| e.to_string())
        };
        let number = text()?.parse().map_err(|_| "a number that is none")?;
        let (xid, at, nth, letter) = (text()?, text()?, text()?, text()?);
        let at = at.parse().map_err(|_| "a time that is none")?;
        let nth = nth.parse().map_err(|_| "an order that is none")?;
        Ok(Self { number, xid, at, nth, letter: letter.bytes().next().unwrap_or_default() })
    }

    /// What kind of change it is, and whether it has an old and a new image.
    fn kind(&self) -> Tried<(ChangeKind, bool, bool)> {
        Ok(match self.letter {
            b'I' => (ChangeKind::Insert, false, true),
            b'U' | b'1' | b'2' | b'3' => (ChangeKind::Update, true, true),
            b'D' => (ChangeKind::Delete, true, false),
            b'T' => (ChangeKind::Truncate, false, false),
            other => return Err(format!("a change of the unknown kind {:?}", char::from(other)).into()),
        })
    }
}

impl Told {
    /// None where nothing of a row stands beside the change.
    fn read<'l>(fields: &mut impl Iterator<Item = Option<Cow<'l, [u8]>>>) -> Tried<Option<Self>> {
        let mut next = || fields.next().ok_or("a row with too few values");
        let (number, file, layout) = (next()?, next()?, next()?);
        let Some(number) = number else { return Ok(None) };
        let wrong = || Trouble::Wrong("a structure that is no number".into());
        let parsed = |text: &[u8]| std::str::from_utf8(text).ok().map(str::to_string);
        Ok(Some(Self {
            number: parsed(&number).and_then(|n| n.parse().ok()).ok_or_else(wrong)?,
            file: file.as_deref().and_then(parsed).and_then(|n| n.parse().ok()).unwrap_or_default(),
            layout: match layout {
                None => None,
                Some(text) => Some(Layout::read(&text).ok_or("a layout that is none")?),
            },
        }))
    }
}

/// What a change is once the key of the updates in sum is known; none if it comes at another place.
fn in_sum(
    letter: u8,
    otherwise: (ChangeKind, bool, bool),
    same_key: impl Fn() -> bool,
) -> Option<(ChangeKind, bool, bool)> {
    match letter {
        b'1' => (!same_key()).then_some((ChangeKind::Delete, true, false)),
        b'2' => same_key().then_some((ChangeKind::Update, true, true)),
        b'3' => (!same_key()).then_some((ChangeKind::Insert, false, true)),
        _ => Some(otherwise),
    }
}

fn image(text: Option<Cow<'_, [u8]>>) -> Tried<Image> {
    let Some(text) = text else { return Ok(Vec::new()) };
    let values = row_text::values(&text)?;
    Ok(values.into_iter().map(|v| v.map(Cow::into_owned)).collect())
}

fn push_places(rows: &mut RowsBuilder, image: &Image, places: &[usize], names: &PresentNames) -> Tried<()> {
    let schema = rows.schema().clone();
    for (place, (builder, &at)) in rows.columns.iter_mut().zip(places).enumerate() {
        let column = &schema.columns[place];
        match image.get(at).ok_or("a row with too few values")? {
            None => builder.push_null(),
            Some(text) => push_text(builder, &column.logical, names.of(place, text))
                .map_err(|e| format!("column {}: {e}", column.name))?,
        }
    }
    Ok(())
}

fn push_columns<'a>(
    rows: &mut RowsBuilder,
    wanted: bool,
    fields: &mut impl Iterator<Item = Option<Cow<'a, [u8]>>>,
) -> Tried<()> {
    let schema = rows.schema().clone();
    for (column, builder) in schema.columns.iter().zip(&mut rows.columns) {
        let field = fields.next().ok_or("a row with too few values")?;
        match field {
            _ if !wanted => {}
            None => builder.push_null(),
            Some(text) => push_text(builder, &column.logical, &text)
                .map_err(|e| format!("column {}: {e}", column.name))?,
        }
    }
    Ok(())
}
