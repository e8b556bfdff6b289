//! Names that are handed round: tables are told apart by their names on their way, so a table leaves its name before another
//! one takes it, in whatever order they are come to.

use moorage_core::TableName;

/// What a table does to make room.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Move {
    /// It is called this from here on.
    To(TableName),
    /// It is not there any more.
    Goes,
}

/// What has to be done, in this order, before a table takes a name: which tables leave theirs. `called` says by number what
/// tables are called on their way, and `seen` what a look saw them called.
pub(crate) fn room_for(
    table: u32,
    name: &TableName,
    called: &[(u32, TableName)],
    seen: impl Fn(u32) -> Option<TableName>,
) -> Vec<(u32, Move)> {
    let mut moves = Vec::new();
    let mut on_their_way = vec![table];
    let mut wanted = name.clone();
    while let Some((other, was)) = called.iter().find(|(id, called)| *called == wanted && *id != table) {
        let next = seen(*other);
        on_their_way.push(*other);
        let is_circle = next.as_ref().is_some_and(|next| {
            called.iter().any(|(id, called)| called == next && on_their_way.contains(id))
        });
        match next {
            None => {
                moves.push((*other, Move::Goes));
                break;
            }
            Some(_) if is_circle => {
                moves.push((*other, Move::To(was.between())));
                break;
            }
            Some(next) => {
                moves.push((*other, Move::To(next.clone())));
                wanted = next;
            }
        }
    }
    moves.reverse();
    moves
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn names(text: &str) -> Vec<(u32, TableName)> {
        (1..).zip(text.split(' ')).map(|(id, name)| (id, TableName::new("public", name))).collect()
    }

    /// Tables 1, 2 and 3 before and after (a dash is one that is gone); the first takes its name.
    #[rstest]
    #[case::free("a b c", "d b c", "")]
    #[case::same("a b c", "a b c", "")]
    #[case::chain("a b c", "b c d", "3 d, 2 c")]
    #[case::swapped("a b c", "b a c", "2 between b")]
    #[case::round("a b c", "b c a", "3 between c, 2 c")]
    #[case::gone("a b c", "b - c", "2 goes")]
    #[case::circle_of_others("a b c", "d c b", "")]
    fn names_are_left_before_they_are_taken(
        #[case] before: &str,
        #[case] after: &str,
        #[case] expected: &str,
    ) {
        let (called, after) = (names(before), names(after));
        let seen = |id: u32| after.iter().find(|(i, n)| *i == id && n.name != "-").map(|(_, n)| n.clone());
        let moves = room_for(1, &seen(1).unwrap(), &called, seen);
        let told = moves.iter().map(|(id, to)| match to {
            Move::Goes => format!("{id} goes"),
            Move::To(name) => match name.before() {
                Some(before) => format!("{id} between {}", before.name),
                None => format!("{id} {}", name.name),
            },
        });
        assert_eq!(told.collect::<Vec<_>>().join(", "), expected);
    }
}
