//! What of an alteration is done in the target already: people are shown its statements, and may have run them. The main type
//! is [`Standing`].

use crate::drift::alter::{AlterStep, Alteration};

/// What is left to do of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// All of it.
    Open,
    /// Nothing.
    Done,
    /// The column is there as it would be declared; rows have to have their value in it.
    Declared,
}

/// The columns that a target table has: names and how they are declared.
pub type TargetColumns = Vec<(String, String)>;

impl Alteration {
    /// How each step stands where the target's table has these columns, which are brought to what they are behind it.
    ///
    /// | step | open | done |
    /// |---|---|---|
    /// | add | no column of the name, or of another type | never: the rows are to be looked at |
    /// | rename | the old name is there | only the new name is there |
    /// | widen | it is declared in another way | it is declared so |
    /// | relabel | always: it changes nothing where it is done | |
    /// | drop | the name is there | it is not |
    ///
    /// Where names are handed on (two columns that swap theirs), nothing can be told, and all of it is open.
    pub fn standing(&self, there: &mut TargetColumns) -> Vec<Standing> {
        let step = |step: &AlterStep| self.step_stands(step, there);
        self.steps.iter().map(step).collect()
    }

    /// Whether the table shows that the step was done.
    fn shows(&self, step: &AlterStep) -> bool {
        let AlterStep::Widen { column } = step else { return step.is_of_table() };
        let is = &self.after.columns[*column];
        let was = self.before.columns.iter().find(|was| was.name == is.name);
        was.is_some_and(|was| !was.declared.sql.eq_ignore_ascii_case(&is.declared.sql))
    }

    fn step_stands(&self, step: &AlterStep, there: &mut TargetColumns) -> Standing {
        let place = |name: &str, there: &TargetColumns| there.iter().position(|(found, _)| found == name);
        let planned = |column: usize| {
            let planned = &self.after.columns[column];
            (planned.name.clone(), planned.declared.sql.clone())
        };
        match step {
            AlterStep::Add { column, .. } => {
                let (name, declared) = planned(*column);
                match place(&name, there) {
                    Some(at) if there[at].1.eq_ignore_ascii_case(&declared) => return Standing::Declared,
                    Some(_) => {}
                    None => there.push((name, declared)),
                }
            }
            AlterStep::Rename { from, to } => match (place(from, there), place(to, there)) {
                (None, Some(_)) => return Standing::Done,
                (Some(at), _) => there[at].0.clone_from(to),
                (None, None) => {}
            },
            AlterStep::Widen { column } => {
                let (name, declared) = planned(*column);
                match place(&name, there) {
                    Some(at) if there[at].1.eq_ignore_ascii_case(&declared) => return Standing::Done,
                    Some(at) => there[at].1 = declared,
                    None => {}
                }
            }
            AlterStep::Relabel { .. } => {}
            AlterStep::Drop { name } => match place(name, there) {
                Some(at) => drop(there.remove(at)),
                None => return Standing::Done,
            },
        }
        Standing::Open
    }
}

/// Whether somebody has altered the target's table in this way, one after the other, so that nothing of it would be altered any
/// more. Not where there is nothing to alter, or nothing that shows.
pub fn is_done<'a>(alterations: impl IntoIterator<Item = &'a Alteration>, mut there: TargetColumns) -> bool {
    let mut shows = false;
    for alteration in alterations {
        let stands = alteration.standing(&mut there);
        for (step, standing) in alteration.steps.iter().zip(stands).filter(|(step, _)| step.is_of_table()) {
            if standing == Standing::Open {
                return false;
            }
            shows |= alteration.shows(step);
        }
    }
    shows
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drift::tests::followed;
    use rstest::rstest;

    /// A table's columns, all of one type.
    fn columns(names: &str) -> TargetColumns {
        names.split(' ').map(|name| (name.to_string(), "INT32".to_string())).collect()
    }

    #[rstest]
    #[case::not_begun("1:id 2:a", "1:id 2:c", "id a", "Open", "id c")]
    #[case::renamed("1:id 2:a", "1:id 2:c", "id c", "Done", "id c")]
    #[case::in_the_way("1:id 2:a", "1:id 2:c", "id a c", "Open", "id c c")]
    #[case::added("1:id 2:a", "1:id 2:a 3:d", "id a d", "Declared", "id a d")]
    #[case::one_of_two("1:id 2:a", "1:id 2:c 3:d", "id c", "Done Open", "id c d")]
    #[case::dropped("1:id 2:a", "1:id", "id", "Done", "id")]
    #[case::swapped("1:id 2:a 3:b", "1:id 2:b 3:a", "id a b", "Open Open Open", "id b a")]
    fn what_is_done_is_told_from_what_is_there(
        #[case] before: &str,
        #[case] after: &str,
        #[case] there: &str,
        #[case] stands: &str,
        #[case] behind: &str,
    ) {
        let (mut there, all) = (columns(there), followed(before, after));
        let found = all.standing(&mut there);
        assert_eq!(found.iter().map(|s| format!("{s:?}")).collect::<Vec<_>>().join(" "), stands);
        assert_eq!(there.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>().join(" "), behind);
        assert_eq!(is_done([&all], columns("id")), all.what.contains("dropped"));
    }

    #[test]
    fn several_are_done_only_where_all_are() {
        let all = [followed("1:id 2:a", "1:id 2:c"), followed("1:id 2:c", "1:id 2:c 3:d")];
        for (there, is) in [("id c d", true), ("id c", false), ("id a d", false)] {
            assert_eq!(is_done(&all, columns(there)), is, "{there}");
        }
        assert!(!is_done([], columns("id")), "nothing says that anybody did anything");
    }

    #[test]
    fn another_type_is_not_what_was_to_be() {
        let all = followed("1:id 2:a", "1:id 2:a 3:d");
        let there =
            vec![("id".into(), "int32".into()), ("a".into(), "int32".into()), ("d".into(), "text".into())];
        assert!(!is_done([&all], there));
    }
}
