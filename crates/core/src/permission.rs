//! Who may do what in a workshop.
//!
//! Every act that a route performs is one value of [`Act`]; [`Role::may`] is the only place that says
//! which role may perform it. A role that is not known may do nothing but read.

use crate::error::Problem;

/// The part a person has in a workshop.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Role {
    /// May do everything.
    Owner,
    /// Works on cases, buys parts, asks outside, keeps the workshop's knowledge.
    Mechanic,
    /// Works on cases under somebody's eyes: does not buy, share or change knowledge.
    Learner,
    /// Reads.
    Viewer,
}

/// Something that a person asks the program to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Act {
    /// Look at cases, vehicles, knowledge.
    Read,
    /// Change a case or a vehicle; make an access token.
    Edit,
    /// Choose a cause and order its part, or change a part as due.
    Buy,
    /// Show a case to somebody outside the workshop.
    Share,
    /// Change the workshop's own times, prices and limits.
    ChangeKnowledge,
    /// Delete a case for good.
    Delete,
}

impl Act {
    /// Every act.
    pub const ALL: [Act; 6] = [Act::Read, Act::Edit, Act::Buy, Act::Share, Act::ChangeKnowledge, Act::Delete];

    /// Why somebody may not, as a sentence for them.
    pub fn refusal(self) -> &'static str {
        match self {
            Act::Read => "This account cannot look at this.",
            Act::Edit => "This account can look at cases, not change them.",
            Act::Buy => "This account cannot order parts: ask a mechanic or the owner to decide.",
            Act::Share => "This account cannot show a case outside the workshop: ask a mechanic or the owner.",
            Act::ChangeKnowledge => "This account cannot change the workshop's times, prices and limits.",
            Act::Delete => "Only an owner deletes a case; it can be put away.",
        }
    }
}

impl Role {
    /// Every role, the one that may most first.
    pub const ALL: [Role; 4] = [Role::Owner, Role::Mechanic, Role::Learner, Role::Viewer];

    /// By its word, as [`Role::id`] writes it.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|r| r.id() == word)
    }

    /// Its word on the command line and in the database.
    pub fn id(self) -> &'static str {
        match self {
            Role::Owner => "owner",
            Role::Mechanic => "mechanic",
            Role::Learner => "learner",
            Role::Viewer => "viewer",
        }
    }

    /// Whether somebody with this role may do it.
    ///
    /// ```
    /// use baricord_core::permission::{Act, Role};
    /// assert!(Role::Learner.may(Act::Edit) && !Role::Learner.may(Act::Buy));
    /// assert!(Role::Viewer.may(Act::Read) && !Role::Viewer.may(Act::Edit));
    /// ```
    pub fn may(self, act: Act) -> bool {
        match act {
            Act::Read => true,
            Act::Edit => self != Role::Viewer,
            Act::Delete => self == Role::Owner,
            Act::Buy | Act::Share | Act::ChangeKnowledge => matches!(self, Role::Owner | Role::Mechanic),
        }
    }
}

/// Longest password, bytes: hashing a longer one would cost the server more than it protects.
pub const MAX_PASSWORD_BYTES: usize = 1024;
/// Shortest password, characters.
pub const MIN_PASSWORD_CHARS: usize = 8;
/// Longest address, bytes.
const MAX_EMAIL_BYTES: usize = 254;

/// Refuses a password that is too short to protect or too long to be one.
pub fn check_password(password: &str) -> Result<(), Problem> {
    let bad = |told: String| Err(Problem::new("bad-password", told).field("password"));
    match () {
        () if password.len() > MAX_PASSWORD_BYTES => bad(format!("a password has at most {MAX_PASSWORD_BYTES} bytes")),
        () if password.chars().count() < MIN_PASSWORD_CHARS => {
            bad(format!("a password has at least {MIN_PASSWORD_CHARS} characters"))
        }
        () if password.contains('\0') => bad("a password holds no NUL".into()),
        () => Ok(()),
    }
}

/// Refuses what is no address to sign in with: one `@` with something on both sides, no spaces.
pub fn check_email(email: &str) -> Result<(), Problem> {
    let whole = email.split_once('@').is_some_and(|(name, host)| !name.is_empty() && !host.is_empty() && !host.contains('@'));
    let plain = email.chars().all(|c| !c.is_whitespace() && !c.is_control());
    if whole && plain && email.len() <= MAX_EMAIL_BYTES {
        return Ok(());
    }
    Err(Problem::new("bad-email", "an address looks like name@workshop.example").field("email"))
}

/// Refuses a change after which nobody owns the workshop. `owners`: how many there would be.
pub fn check_owners_left(owners: usize) -> Result<(), Problem> {
    match owners {
        0 => {
            Err(Problem::new("last-owner", "a workshop keeps at least one owner: make somebody else its owner first")
                .field("role"))
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn passwords_and_addresses_have_bounds() {
        assert!(check_password("driveline").is_ok() && check_password(&"x".repeat(1024)).is_ok());
        for bad in ["short", &"x".repeat(1025), "long enough\0"] {
            assert_eq!(check_password(bad).unwrap_err().field.as_deref(), Some("password"));
        }
        assert!(check_email("maren@harrowmere.example").is_ok());
        for bad in ["", "maren", "@x", "a@", "a@b@c", "a b@c", "a\0@b", &format!("{}@x", "a".repeat(254))] {
            assert!(check_email(bad).is_err(), "{bad}");
        }
        assert!(check_owners_left(1).is_ok() && check_owners_left(0).is_err());
    }

    #[test]
    fn who_may_more_may_all_that_others_may() {
        for pair in Role::ALL.windows(2) {
            for act in Act::ALL {
                assert!(pair[0].may(act) || !pair[1].may(act), "{} may not {act:?}, {} may", pair[0].id(), pair[1].id());
            }
        }
        let count = |r: Role| Act::ALL.iter().filter(|a| r.may(**a)).count();
        assert_eq!(Role::ALL.map(count), [6, 5, 2, 1]);
    }

    #[test]
    fn a_role_is_read_as_it_is_written_and_no_other() {
        for r in Role::ALL {
            assert_eq!(Role::parse(r.id()), Some(r));
        }
        assert_eq!(Role::parse("Owner"), None);
        assert_eq!(Role::parse(""), None);
    }
}
