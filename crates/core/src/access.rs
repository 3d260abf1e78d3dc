//! Who may do what, how long somebody waits who guesses passwords, and what becomes of a password that is offered.

use serde::{Deserialize, Serialize};

/// What a route asks of whoever comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize)]
pub enum Permission {
    /// Nothing: beacons, the snippet, signing in.
    Public,
    /// The token of a location.
    Runner,
    /// To be somebody.
    Signed,
    /// To read what is measured.
    Read,
    /// To look at single visits and persons.
    People,
    /// To change journeys, goals and what else a team works with.
    Edit,
    /// To set and remove markers.
    Mark,
    /// To play or record at a location now.
    Play,
    /// To bring page views in files.
    Import,
    /// To look after the installation.
    Administer,
    /// The same, and to have typed one's password lately.
    Grave,
}

impl Permission {
    /// All of them.
    pub const ALL: [Permission; 11] = [
        Permission::Public,
        Permission::Runner,
        Permission::Signed,
        Permission::Read,
        Permission::People,
        Permission::Edit,
        Permission::Mark,
        Permission::Play,
        Permission::Import,
        Permission::Administer,
        Permission::Grave,
    ];

    /// What somebody lacks who may not, in words.
    pub fn lack(self) -> &'static str {
        match self {
            Permission::Public | Permission::Signed => "You have to sign in for this.",
            Permission::Runner => "Only the runner of a location does this.",
            Permission::Read => "You are no member of this site.",
            Permission::People => {
                "Single visits and persons are seen by those who were given the right to."
            }
            Permission::Edit | Permission::Mark | Permission::Play => {
                "Editors do this; you are a reader."
            }
            Permission::Import | Permission::Administer | Permission::Grave => {
                "Administrators do this."
            }
        }
    }
}

/// What a token of a program may be made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Scope {
    /// To read what is measured; never single visits and persons.
    Read,
    /// To change what editors change.
    Write,
    /// To set and remove markers.
    Markers,
    /// To bring page views.
    Import,
    /// To play at a location now.
    Play,
}

impl Scope {
    /// All of them.
    pub const ALL: [Scope; 5] =
        [Scope::Read, Scope::Write, Scope::Markers, Scope::Import, Scope::Play];

    /// As it is kept and written.
    pub fn word(self) -> &'static str {
        match self {
            Scope::Read => "read",
            Scope::Write => "write",
            Scope::Markers => "markers",
            Scope::Import => "import",
            Scope::Play => "play",
        }
    }

    /// The scope of this word.
    pub fn of(word: &str) -> Option<Scope> {
        Scope::ALL.into_iter().find(|s| s.word() == word)
    }

    /// Whether a token with these scopes may do what asks for this.
    pub fn may(scopes: &[Scope], permission: Permission) -> bool {
        let has = |scope| scopes.contains(&scope);
        match permission {
            Permission::Public => true,
            Permission::Read => has(Scope::Read),
            Permission::Edit => has(Scope::Write),
            Permission::Mark => has(Scope::Markers) || has(Scope::Write),
            Permission::Play => has(Scope::Play),
            Permission::Import => has(Scope::Import),
            Permission::Runner
            | Permission::Signed
            | Permission::People
            | Permission::Administer
            | Permission::Grave => false,
        }
    }
}

/// What somebody is on a site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Reads.
    Reader,
    /// Reads and changes.
    Editor,
}

impl Role {
    /// Both.
    pub const ALL: [Role; 2] = [Role::Reader, Role::Editor];

    /// As it is kept and written.
    pub fn word(self) -> &'static str {
        match self {
            Role::Reader => "reader",
            Role::Editor => "editor",
        }
    }

    /// The role of this word.
    pub fn of(word: &str) -> Option<Role> {
        Role::ALL.into_iter().find(|r| r.word() == word)
    }
}

/// What somebody who has signed in has on a site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize)]
pub struct Rights {
    /// Looks after the installation, and may do whatever an editor may on every site.
    pub is_administrator: bool,
    /// Their role on the site; an administrator needs none.
    pub role: Option<Role>,
    /// Whether they see people where they may read.
    pub sees_people: bool,
    /// Whether they typed their password lately.
    pub proved: bool,
}

/// Whether somebody may.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum May {
    /// They may.
    Yes,
    /// They may once they have typed their password.
    Prove,
    /// They may not.
    No,
}

impl Rights {
    /// Whether they may do what asks for this.
    pub fn may(self, permission: Permission) -> May {
        let reads = self.is_administrator || self.role.is_some();
        let edits = self.is_administrator || self.role == Some(Role::Editor);
        let yes = match permission {
            Permission::Public | Permission::Signed => true,
            Permission::Runner => false,
            Permission::Read => reads,
            Permission::People => reads && self.sees_people,
            Permission::Edit | Permission::Mark | Permission::Play => edits,
            Permission::Import | Permission::Administer => self.is_administrator,
            Permission::Grave if self.is_administrator && !self.proved => return May::Prove,
            Permission::Grave => self.is_administrator,
        };
        if yes { May::Yes } else { May::No }
    }
}

/// A session ends when nobody used it for so long, in seconds.
pub const IDLE_S: i64 = 12 * 3_600;
/// And at the latest so long after signing in, in seconds.
pub const LONGEST_S: i64 = 14 * 86_400;
/// A password that was typed within so many seconds need not be typed again.
pub const PROVED_S: i64 = 600;

/// Wrong tries at one account that cost nothing.
pub const FREE_TRIES: u32 = 5;
/// Wrong tries from one network that cost nothing: many people may be behind it.
pub const FREE_TRIES_OF_NETWORK: u32 = 20;
/// Nobody waits longer than this, in seconds: who owns the account shall come in the same day.
const LONGEST_WAIT_S: i64 = 900;

/// How many seconds must pass after the last of so many wrong tries before another is looked at: none for the first `free`,
/// then one, and twice as long each time. Common practice, no published source.
pub fn wait_s(failures: u32, free: u32) -> i64 {
    match failures.checked_sub(free) {
        None => 0,
        Some(over) => 1i64.checked_shl(over).unwrap_or(i64::MAX).clamp(1, LONGEST_WAIT_S),
    }
}

/// A password has at least so many characters (NIST SP 800-63B, 5.1.1.2, asks for 8 at least; passwords here are the only
/// thing that keeps strangers out).
pub const SHORTEST_PASSWORD: usize = 10;
/// And at most so many bytes: more only costs time.
pub const LONGEST_PASSWORD: usize = 256;

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn rights(
        is_administrator: bool,
        role: Option<Role>,
        sees_people: bool,
        proved: bool,
    ) -> Rights {
        Rights { is_administrator, role, sees_people, proved }
    }

    #[test]
    fn each_may_what_the_table_says_and_nothing_else() {
        use Permission::{
            Administer, Edit, Grave, Import, Mark, People, Play, Public, Read, Runner, Signed,
        };
        let may = |r: Rights| -> Vec<Permission> {
            Permission::ALL.into_iter().filter(|p| r.may(*p) == May::Yes).collect()
        };
        let (reader, editor) = (Some(Role::Reader), Some(Role::Editor));
        assert_eq!(may(Rights::default()), [Public, Signed], "a member of no site");
        assert_eq!(may(rights(false, None, true, true)), [Public, Signed], "sees nobody nowhere");
        assert_eq!(may(rights(false, reader, false, true)), [Public, Signed, Read]);
        assert_eq!(may(rights(false, reader, true, true)), [Public, Signed, Read, People]);
        assert_eq!(
            may(rights(false, editor, false, true)),
            [Public, Signed, Read, Edit, Mark, Play]
        );
        let all = [Public, Signed, Read, Edit, Mark, Play, Import, Administer];
        assert_eq!(may(rights(true, None, false, false)), all);
        assert_eq!(rights(true, None, false, false).may(Grave), May::Prove);
        assert_eq!(rights(false, editor, true, false).may(Grave), May::No);
        assert_eq!(rights(true, None, true, true).may(Grave), May::Yes);
        assert!(may(rights(true, None, true, true)).contains(&People));
        assert!(!may(rights(true, editor, true, true)).contains(&Runner), "people are no runners");
    }

    #[test]
    fn a_token_never_reaches_people_nor_what_is_grave_and_only_what_it_was_made_for() {
        use Permission::{Edit, Import, Mark, Play, Public, Read};
        let may = |scopes: &[Scope]| -> Vec<Permission> {
            Permission::ALL.into_iter().filter(|p| Scope::may(scopes, *p)).collect()
        };
        assert_eq!(may(&Scope::ALL), [Public, Read, Edit, Mark, Play, Import]);
        assert_eq!(may(&[Scope::Read]), [Public, Read]);
        assert_eq!(may(&[Scope::Markers]), [Public, Mark]);
        assert_eq!(may(&[Scope::Write]), [Public, Edit, Mark], "who writes need not read");
        assert_eq!(may(&[Scope::Import]), [Public, Import]);
        for scope in Scope::ALL {
            assert_eq!(Scope::of(scope.word()), Some(scope));
        }
    }

    #[test]
    fn who_guesses_waits_twice_as_long_each_time_and_never_for_ever() {
        let waits: Vec<i64> = (0..20).map(|n| wait_s(n, FREE_TRIES)).collect();
        assert_eq!(waits[..9], [0, 0, 0, 0, 0, 1, 2, 4, 8]);
        assert_eq!((waits[14], waits[15], waits[19]), (512, 900, 900));
        assert_eq!(wait_s(u32::MAX, FREE_TRIES), 900);
    }

    proptest! {
        #[test]
        fn more_rights_never_take_any_away(
            admin: bool, role in prop::sample::select(vec![None, Some(Role::Reader), Some(Role::Editor)]),
            people: bool, proved: bool, nth in 0..Permission::ALL.len(),
        ) {
            let p = Permission::ALL[nth];
            let less = rights(admin, role, people, proved);
            for more in [
                Rights { is_administrator: true, ..less },
                Rights { role: Some(Role::Editor), ..less },
                Rights { sees_people: true, ..less },
                Rights { proved: true, ..less },
            ] {
                prop_assert!(less.may(p) != May::Yes || more.may(p) == May::Yes, "{:?} {:?}", less, p);
            }
        }
    }
}
