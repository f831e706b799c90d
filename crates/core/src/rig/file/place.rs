//! Places in a document: where a path of keys stands in its text, and where a place of a raised text stood before.

use crate::rig::check::{Part, Path};
use std::ops::Range;
use toml_edit::{Document, Item, Key, Table, TableLike, Value};

/// A place in a parsed document.
#[derive(Clone, Copy)]
enum Node<'a> {
    Item(&'a Item),
    Table(&'a Table),
    Value(&'a Value),
}

impl<'a> Node<'a> {
    fn child(self, part: &Part) -> Option<Self> {
        match (self, part) {
            (Self::Item(Item::ArrayOfTables(tables)), Part::At(index)) => tables.get(*index).map(Self::Table),
            (Self::Item(Item::Value(value)), part) => Self::Value(value).child(part),
            (Self::Item(item), Part::Key(key)) => item.get(key.as_str()).map(Self::Item),
            (Self::Table(table), Part::Key(key)) => table.get(key).map(Self::Item),
            (Self::Value(value), Part::Key(key)) => value.as_inline_table()?.get(key).map(Self::Value),
            (Self::Value(value), Part::At(index)) => value.as_array()?.get(*index).map(Self::Value),
            _ => None,
        }
    }

    fn span(self) -> Option<Range<usize>> {
        match self {
            Self::Item(item) => item.span(),
            Self::Table(table) => table.span(),
            Self::Value(value) => value.span(),
        }
    }

    fn as_table(self) -> Option<&'a dyn TableLike> {
        match self {
            Self::Item(item) => item.as_table_like(),
            Self::Table(table) => Some(table),
            Self::Value(value) => value.as_inline_table().map(|table| table as &dyn TableLike),
        }
    }

    /// Where the key of one of its children stands.
    fn key_span(self, key: &str) -> Option<Range<usize>> {
        self.as_table()?.get_key_value(key).and_then(|(key, _)| Key::span(key))
    }

    fn parts(self) -> Vec<Part> {
        if let Some(table) = self.as_table() {
            return table.iter().map(|(key, _)| Part::Key(key.to_owned())).collect();
        }
        let length = match self {
            Self::Item(Item::ArrayOfTables(tables)) => tables.len(),
            Self::Item(Item::Value(Value::Array(list))) | Self::Value(Value::Array(list)) => list.len(),
            _ => 0,
        };
        (0..length).map(Part::At).collect()
    }

    /// Goes to what has exactly this span; whether it is a key. `path` is then its path.
    fn find(self, span: &Range<usize>, path: &mut Vec<Part>) -> Option<bool> {
        for part in self.parts() {
            let is_key = matches!(&part, Part::Key(key) if self.key_span(key).as_ref() == Some(span));
            let child = self.child(&part);
            path.push(part);
            if is_key || child.and_then(Self::span).as_ref() == Some(span) {
                return Some(is_key);
            }
            if let Some(found) = child.and_then(|child| child.find(span, path)) {
                return Some(found);
            }
            path.pop();
        }
        None
    }
}

/// What a key within a table was called in an older format.
fn older(part: &Part) -> Option<Part> {
    let Part::Key(key) = part else { return None };
    let renamed = [("link", "port"), ("channel", "field")].into_iter().find(|(new, _)| new == key);
    renamed.map(|(_, old)| Part::Key(old.to_owned()))
}

/// The deepest part of `path` that stands in a document, with the parts that do not.
fn deepest<'a, 'p>(
    document: &'a Document<&str>,
    path: &'p [Part],
) -> (Node<'a>, Option<Range<usize>>, &'p [Part]) {
    let (mut node, mut span, mut left) = (Node::Item(document.as_item()), None, path);
    while let [part, rest @ ..] = left {
        let nested = left.len() < path.len();
        let Some(child) = node.child(part).or_else(|| node.child(&older(part).filter(|_| nested)?)) else {
            break;
        };
        span = child.span().or(span);
        (node, left) = (child, rest);
    }
    (node, span, left)
}

/// The span of the deepest part of `path` that stands in the text: a key left out is its table's.
pub(super) fn span_of(document: &Document<&str>, path: &Path) -> Option<Range<usize>> {
    deepest(document, &path.0).1
}

/// Where in `disk` what has this span in `document` stands: the same keys, as deep as they are there.
pub(super) fn carried(
    document: &Document<&str>,
    span: &Range<usize>,
    disk: &Document<&str>,
) -> Option<Range<usize>> {
    let mut path = Vec::new();
    let is_key = Node::Item(document.as_item()).find(span, &mut path)?;
    if is_key && let Some((Part::Key(key), table)) = path.split_last() {
        let (node, span, _) = deepest(disk, table);
        return node.key_span(key).or(span);
    }
    deepest(disk, &path).1
}
