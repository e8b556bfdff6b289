//! Which columns a relation message is about.
//!
//! A message lists the columns that there were, in the order of their numbers, without the numbers, and without generated
//! columns. Between two looks columns come once, in the order of their numbers, and go once; one that was not touched has its
//! name and type all the time; where no rows were rewritten, others have types that can become each other so. All sets of columns that keep to this and have the message's size are counted.

use super::state::{State, may_become};

/// A column as a message lists it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct AnnouncedColumn {
    pub(crate) name: String,
    pub(crate) type_id: u32,
    pub(crate) modifier: i32,
    /// Whether it is part of the replica identity.
    pub(crate) in_key: bool,
}

/// How many sets fit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Fit {
    /// None: the message is not from between the two looks.
    None,
    /// One: the columns' numbers.
    One(Vec<u32>),
    /// More than one.
    Several,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Presence {
    Always,
    /// It may have gone already.
    Leaving,
    /// It may not have come yet; it is there once it has.
    Coming,
    /// It came and went.
    Passing,
}

/// The numbers of the columns that a message from between `before` and `after` is about.
pub(crate) fn fit(before: &State, after: &State, announced: &[AnnouncedColumn]) -> Fit {
    let numbers: Vec<(u32, Presence)> =
        (1..=after.count.max(before.count)).filter_map(|n| Some((n, presence(before, after, n)?))).collect();
    let mut search =
        Search { before, after, announced, numbers, taken: Vec::new(), found: Vec::new(), left: CAP };
    search.from(0, false);
    match (search.found.len(), search.left) {
        // Not all was seen: there may be another one.
        (_, 0) => Fit::Several,
        (0, _) => Fit::None,
        (1, _) => Fit::One(search.found.remove(0)),
        _ => Fit::Several,
    }
}

/// Steps of the search; a table's whole history between two looks takes some dozens.
const CAP: usize = 200_000;

fn presence(before: &State, after: &State, number: u32) -> Option<Presence> {
    let (was, is) = (before.column(number), after.column(number));
    match (was, is) {
        (Some(was), Some(is)) if !was.generated && !is.generated => Some(Presence::Always),
        // An expression can be dropped, never be set.
        (Some(_), Some(is)) => (!is.generated).then_some(Presence::Coming),
        (Some(was), None) => Some(if was.generated { Presence::Passing } else { Presence::Leaving }),
        (None, _) if number <= before.count => None,
        (None, Some(is)) => (!is.generated).then_some(Presence::Coming),
        (None, None) => Some(Presence::Passing),
    }
}

struct Search<'a> {
    before: &'a State,
    after: &'a State,
    announced: &'a [AnnouncedColumn],
    numbers: Vec<(u32, Presence)>,
    taken: Vec<u32>,
    found: Vec<Vec<u32>>,
    left: usize,
}

impl Search<'_> {
    /// Goes on at a number; `ended` if a column that comes was passed over: then no later one has come either.
    fn from(&mut self, at: usize, ended: bool) {
        if self.found.len() > 1 || self.left == 0 {
            return;
        }
        self.left -= 1;
        let open = self.announced.len() - self.taken.len();
        let Some(&(number, presence)) = self.numbers.get(at) else {
            if open == 0 {
                self.found.push(self.taken.clone());
            }
            return;
        };
        let is_new = number > self.before.count;
        if open > 0 && !(is_new && ended) && self.may_be(number, self.taken.len()) {
            self.taken.push(number);
            self.from(at + 1, ended);
            self.taken.pop();
        }
        match presence {
            Presence::Always => {}
            Presence::Leaving | Presence::Passing => self.from(at + 1, ended),
            Presence::Coming => self.from(at + 1, ended || is_new),
        }
    }

    /// Whether a column can be the one at a place of the message.
    fn may_be(&self, number: u32, place: usize) -> bool {
        let found = &self.announced[place];
        let (was, is) = (self.before.column(number), self.after.column(number));
        if let Some(is) = is.filter(|_| self.before.is_untouched(self.after, number)) {
            return (&is.name, is.type_id, is.modifier) == (&found.name, found.type_id, found.modifier);
        }
        // Where no rows were rewritten, no type became another one but in a few ways.
        let rewritten = self.before.storage != self.after.storage;
        rewritten
            || was.is_none_or(|was| may_become(was.type_id, found.type_id))
                && is.is_none_or(|is| may_become(found.type_id, is.type_id))
    }
}

#[cfg(test)]
mod tests {
    use super::super::state::ColumnState;
    use super::super::types::Made;
    use super::*;
    use rstest::rstest;

    /// `1:a 2:b*`: numbers with names; a star for touched between the looks; `=` in front of a generated one.
    fn state(text: &str, count: u32, is_after: bool) -> State {
        let column = |word: &str| {
            let (number, name) = word.split_once(':').unwrap();
            let touched = if name.ends_with('*') && is_after { "2" } else { "1" };
            ColumnState {
                number: number.parse().unwrap(),
                name: name.split('/').next().unwrap().trim_matches(['*', '=']).into(),
                type_id: type_of(name),
                modifier: -1,
                generated: name.starts_with('='),
                touched: Some(touched.into()),
                made: Made::default(),
            }
        };
        State {
            storage: 1,
            count,
            columns: text.split_whitespace().map(column).collect(),
            ..State::default()
        }
    }

    fn type_of(name: &str) -> u32 {
        name.split_once('/').map_or(23, |(_, id)| id.parse().unwrap())
    }

    fn announced(text: &str) -> Vec<AnnouncedColumn> {
        let column = |name: &str| AnnouncedColumn {
            name: name.split('/').next().unwrap().into(),
            type_id: type_of(name),
            modifier: -1,
            in_key: false,
        };
        text.split_whitespace().map(column).collect()
    }

    #[rstest]
    #[case::nothing("1:a 2:b", "1:a 2:b", 2, "a b", Fit::One(vec![1, 2]))]
    #[case::added_before("1:a", "1:a 2:b", 2, "a", Fit::One(vec![1]))]
    #[case::added("1:a", "1:a 2:b", 2, "a b", Fit::One(vec![1, 2]))]
    #[case::two_added("1:a", "1:a 2:b 3:c", 3, "a b", Fit::One(vec![1, 2]))]
    #[case::dropped("1:a 2:b 3:c", "1:a 3:c", 3, "a c", Fit::One(vec![1, 3]))]
    #[case::swapped("1:a 2:b", "1:b* 2:a*", 2, "b a", Fit::One(vec![1, 2]))]
    #[case::middle_dropped_and_added("1:a 2:b 3:c", "1:a 3:c 4:b", 4, "a c b", Fit::One(vec![1, 3, 4]))]
    #[case::last_dropped_and_added("1:a 2:b", "1:a 3:b", 3, "a b", Fit::Several)]
    #[case::renamed_or_replaced("1:a 2:b", "1:a 3:c", 3, "a c", Fit::Several)]
    #[case::replaced_by_another_type("1:a 2:b", "1:a 3:c/25", 3, "a c/25", Fit::One(vec![1, 3]))]
    #[case::came_and_went("1:a", "1:a", 2, "a x", Fit::One(vec![1, 2]))]
    #[case::of_another_table("1:a 2:b", "1:a 2:b", 2, "a c", Fit::None)]
    #[case::too_many("1:a", "1:a", 1, "a b", Fit::None)]
    #[case::generated("1:a 2:=g 3:c", "1:a 2:=g 3:c", 3, "a c", Fit::One(vec![1, 3]))]
    #[case::expression_dropped("1:a 2:=g 3:c", "1:a 2:g* 3:c", 3, "a g c", Fit::One(vec![1, 2, 3]))]
    fn the_one_set_that_fits_or_none(
        #[case] before: &str,
        #[case] after: &str,
        #[case] count: u32,
        #[case] message: &str,
        #[case] expected: Fit,
    ) {
        let before = state(before, before.split_whitespace().count() as u32, false);
        assert_eq!(fit(&before, &state(after, count, true), &announced(message)), expected);
    }

    #[test]
    fn a_search_without_end_counts_as_several() {
        let before = state("1:a", 1, false);
        let after = state("1:a", 60, true);
        let message = announced(&format!("a {}", "x ".repeat(30)));
        assert_eq!(fit(&before, &after, &message), Fit::Several);
    }

    /// Against all subsets, tried one by one.
    #[test]
    fn the_search_finds_what_trying_all_subsets_finds() {
        let before = state("1:a 2:b 3:c", 3, false);
        for after in ["1:a 2:b* 3:c 5:e", "1:a 3:c* 4:d 6:f", "2:b* 3:c", "1:x* 2:y* 5:c 6:d"] {
            let after = state(after, 6, true);
            for message in ["a b c", "a c", "a x c d", "b c", "x y c", "x y c d", "c", "a c d e f"] {
                let message = announced(message);
                let fits = |set: &[u32]| {
                    let is_in = |n: u32| set.contains(&n);
                    let rules = (1..=6).all(|n| match (before.column(n), after.column(n)) {
                        (Some(_), Some(_)) => is_in(n),
                        (None, None) if n <= 3 => !is_in(n),
                        (None, Some(_)) => is_in(n) || !(n + 1..=6).any(is_in),
                        _ => true,
                    });
                    let places = set.iter().zip(&message).all(|(&n, found)| {
                        !before.is_untouched(&after, n) || after.column(n).unwrap().name == found.name
                    });
                    rules && places && set.len() == message.len()
                };
                let all =
                    (0u32..64).map(|bits| (1..=6).filter(|n| bits >> (n - 1) & 1 == 1).collect::<Vec<_>>());
                let all: Vec<Vec<u32>> = all.filter(|set| fits(set)).collect();
                let expected = match all.as_slice() {
                    [] => Fit::None,
                    [one] => Fit::One(one.clone()),
                    _ => Fit::Several,
                };
                assert_eq!(fit(&before, &after, &message), expected, "{message:?}");
            }
        }
    }
}
