//! How a table came from one list of columns to another.
//!
//! SQLite does not number columns. It adds them at the end, takes any away, and renames them where they stand; it changes
//! nothing else of a column but by making the table anew, which takes our triggers away with it
//! (<https://www.sqlite.org/lang_altertable.html>). So the columns that survive are a part of those before, in their order and
//! as they were declared, at the beginning of those after; whatever stands behind them is new. Each way to choose them takes
//! some statements at least, and the version of the schema says how many there were at most.

/// A column as far as it can be compared.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Declared {
    pub(crate) name: String,
    /// Type, nullability and whatever else no statement changes.
    pub(crate) kind: String,
}

/// What is known of the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Explained {
    /// For each column after, the place of the one before that it is; none for new ones.
    As(Vec<Option<usize>>),
    /// More than one way; which depends on whether at least so many columns survived.
    Open(usize),
    /// None: it was made anew.
    No,
}

/// The one way from `before` to `after` in at most so many statements, of which it is known that at least `survived`
/// columns at the beginning of `after` were there before.
pub(crate) fn explain(
    before: &[Declared],
    after: &[Declared],
    statements: u64,
    survived: usize,
) -> Explained {
    let mut search = Search { before, after, statements, survived, ways: Vec::new(), left: CAP };
    search.from(0, &mut Vec::new(), 0);
    if search.left == 0 {
        return Explained::Open(after.len());
    }
    match search.ways.as_slice() {
        [] => Explained::No,
        [only] => Explained::As(way(only, after.len())),
        several => Explained::Open(several.iter().map(Vec::len).max().unwrap_or_default()),
    }
}

/// The fewest statements that lead there; 0 if none do, or too many would have to be tried.
pub(crate) fn fewest(before: &[Declared], after: &[Declared]) -> u64 {
    let most = before.len().min(8) as u64 + after.len().min(8) as u64;
    (0..=most).find(|n| explain(before, after, *n, 0) != Explained::No).unwrap_or(0)
}

fn way(survivors: &[usize], columns: usize) -> Vec<Option<usize>> {
    (0..columns).map(|at| survivors.get(at).copied()).collect()
}

/// Steps of the search.
const CAP: usize = 100_000;

struct Search<'a> {
    before: &'a [Declared],
    after: &'a [Declared],
    statements: u64,
    survived: usize,
    /// The survivors' places before, of each way.
    ways: Vec<Vec<usize>>,
    left: usize,
}

impl Search<'_> {
    /// Goes on at a column before, with the survivors so far and the statements that they take.
    fn from(&mut self, at: usize, survivors: &mut Vec<usize>, taken: u64) {
        if self.left == 0 || taken > self.statements {
            return;
        }
        self.left -= 1;
        if at == self.before.len() {
            let new = (self.after.len() - survivors.len()) as u64;
            if survivors.len() >= self.survived && taken + new <= self.statements {
                self.ways.push(survivors.clone());
            }
            return;
        }
        let (was, is) = (&self.before[at], self.after.get(survivors.len()));
        if let Some(is) = is.filter(|is| is.kind == was.kind) {
            survivors.push(at);
            self.from(at + 1, survivors, taken + u64::from(is.name != was.name));
            survivors.pop();
        }
        self.from(at + 1, survivors, taken + 1);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn columns(text: &str) -> Vec<Declared> {
        let column = |word: &str| {
            let (name, kind) = word.split_once(':').unwrap_or((word, "TEXT"));
            Declared { name: name.into(), kind: kind.into() }
        };
        text.split_whitespace().map(column).collect()
    }

    #[rstest]
    #[case::nothing("a b", "a b", 1, 0, Explained::As(vec![Some(0), Some(1)]))]
    #[case::nothing_or_the_last_one_anew("a b", "a b", 2, 0, Explained::Open(2))]
    #[case::nothing_as_is_known("a b", "a b", 9, 2, Explained::As(vec![Some(0), Some(1)]))]
    #[case::added("a b", "a b c", 1, 0, Explained::As(vec![Some(0), Some(1), None]))]
    #[case::dropped("a b c", "a c", 1, 0, Explained::As(vec![Some(0), Some(2)]))]
    #[case::renamed("a b c", "a x c", 1, 0, Explained::As(vec![Some(0), Some(1), Some(2)]))]
    #[case::renamed_in_the_middle("a b:INT c", "a x:INT c", 2, 0, Explained::As(vec![Some(0), Some(1), Some(2)]))]
    #[case::last_renamed_or_anew("a b", "a x", 2, 0, Explained::Open(2))]
    #[case::last_renamed_as_is_known("a b", "a x", 2, 2, Explained::As(vec![Some(0), Some(1)]))]
    #[case::last_of_another_type("a b:INT", "a b:TEXT", 2, 0, Explained::As(vec![Some(0), None]))]
    #[case::made_anew("a b", "b a", 1, 0, Explained::No)]
    #[case::too_many_for_one_statement("a", "a b c", 1, 0, Explained::No)]
    fn the_one_way_or_none(
        #[case] before: &str,
        #[case] after: &str,
        #[case] statements: u64,
        #[case] survived: usize,
        #[case] expected: Explained,
    ) {
        assert_eq!(explain(&columns(before), &columns(after), statements, survived), expected);
    }

    #[rstest]
    #[case("a b", "a b", 0)]
    #[case("a b", "a x", 1)]
    #[case("a b:INT", "a x:TEXT", 2)]
    #[case("a:INT", "b:TEXT c d", 4)]
    fn the_fewest_statements(#[case] before: &str, #[case] after: &str, #[case] expected: u64) {
        assert_eq!(fewest(&columns(before), &columns(after)), expected);
    }

    #[test]
    fn a_search_without_end_is_open() {
        let many = columns(&"c ".repeat(40));
        assert_eq!(explain(&many, &many[..20], 60, 0), Explained::Open(20));
    }
}
