//! What groups of a provider give whoever is in them.
//!
//! What a rule names, rules alone give: whoever comes by the provider has it while a group of theirs gives it, and not
//! otherwise. What no rule names is given by hand.

use crate::access::Role;

/// What a group gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Grant {
    /// Whoever is in it looks after the installation.
    Administrator,
    /// Sees single visits and persons.
    People,
    /// Has this role on the site of this id.
    Role(i32, Role),
    /// Is in the team of this id.
    Team(i32),
}

/// A group that gives something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rule {
    /// Its name at the provider, to the letter.
    pub group: String,
    /// What it gives.
    pub grant: Grant,
}

/// What rules say of somebody; what they do not name is `None`, or not there.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ByGroups {
    /// Whether they look after the installation.
    pub is_administrator: Option<bool>,
    /// Whether they see people.
    pub sees_people: Option<bool>,
    /// Their role on each site that a rule names.
    pub roles: Vec<(i32, Option<Role>)>,
    /// Whether they are in each team that a rule names.
    pub teams: Vec<(i32, bool)>,
}

/// What these rules say of whoever is in these groups.
pub fn by_groups(rules: &[Rule], groups: &[String]) -> ByGroups {
    let mut by = ByGroups::default();
    for rule in rules {
        let is_in = groups.contains(&rule.group);
        match rule.grant {
            Grant::Administrator => *by.is_administrator.get_or_insert(false) |= is_in,
            Grant::People => *by.sees_people.get_or_insert(false) |= is_in,
            Grant::Role(site, role) => {
                let has = of(&mut by.roles, site, None);
                *has = (*has).max(is_in.then_some(role));
            }
            Grant::Team(team) => *of(&mut by.teams, team, false) |= is_in,
        }
    }
    by
}

/// What stands beside an id in a list; it is put there when it does not.
fn of<T>(all: &mut Vec<(i32, T)>, id: i32, none: T) -> &mut T {
    let at = all.iter().position(|(i, _)| *i == id).unwrap_or_else(|| {
        all.push((id, none));
        all.len() - 1
    });
    &mut all[at].1
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rule(group: &str, grant: Grant) -> Rule {
        Rule { group: group.into(), grant }
    }

    fn groups(names: &[&str]) -> Vec<String> {
        names.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn what_a_rule_names_a_group_gives_or_nobody_and_what_none_names_is_left_alone() {
        let rules = [
            rule("ops", Grant::Administrator),
            rule("crew", Grant::Role(1, Role::Reader)),
            rule("desk", Grant::Role(1, Role::Editor)),
            rule("desk", Grant::Team(7)),
            rule("freight", Grant::Role(2, Role::Reader)),
        ];
        let of = |names: &[&str]| by_groups(&rules, &groups(names));
        let both = of(&["crew", "desk", "Ops"]);
        assert_eq!(both.is_administrator, Some(false), "a group is another one in other letters");
        assert_eq!(both.sees_people, None, "no rule names it");
        assert_eq!(both.roles, [(1, Some(Role::Editor)), (2, None)], "the more of two");
        assert_eq!(both.teams, [(7, true)]);
        assert_eq!(of(&["ops"]).is_administrator, Some(true));
        assert_eq!(of(&[]).teams, [(7, false)], "who has left the group has left the team");
        assert_eq!(by_groups(&[], &groups(&["ops"])), ByGroups::default());
    }

    fn grants() -> impl Strategy<Value = Grant> {
        prop_oneof![
            Just(Grant::Administrator),
            Just(Grant::People),
            (0..3, prop::sample::select(Role::ALL.to_vec())).prop_map(|(s, r)| Grant::Role(s, r)),
            (0..3).prop_map(Grant::Team),
        ]
    }

    proptest! {
        #[test]
        fn another_group_takes_nothing_away_and_the_order_of_rules_is_nothing(
            mut rules in prop::collection::vec(("[a-d]", grants()), 0..12),
            names in prop::collection::hash_set("[a-d]", 0..4), more in "[a-d]",
        ) {
            let all = |rules: &[(String, Grant)]| -> Vec<Rule> {
                rules.iter().map(|(g, grant)| rule(g, *grant)).collect()
            };
            let sorted = |rules: &[(String, Grant)], names: &[String]| {
                let mut by = by_groups(&all(rules), names);
                by.roles.sort_unstable();
                by.teams.sort_unstable();
                by
            };
            let mut names: Vec<String> = names.into_iter().collect();
            let less = sorted(&rules, &names);
            names.push(more);
            let by = sorted(&rules, &names);
            prop_assert!(less.is_administrator <= by.is_administrator);
            prop_assert!(less.sees_people <= by.sees_people);
            prop_assert!(less.roles.iter().zip(&by.roles).all(|(l, m)| l.0 == m.0 && l.1 <= m.1));
            prop_assert!(less.teams.iter().zip(&by.teams).all(|(l, m)| l.0 == m.0 && l.1 <= m.1));
            rules.reverse();
            prop_assert_eq!(sorted(&rules, &names), by);
        }
    }
}
