//! `baricord workshop` and `baricord person`: who may sign in to an installation.

use crate::database::{DatabaseArgs, problem};
use crate::output::outln;
use baricord_core::error::Problem;
use baricord_core::permission::Role;
use baricord_store::{Scope, Store};
use clap::{Args, Subcommand};
use rand::TryRngCore;
use std::io::Read;

/// What is done with workshops.
#[derive(Subcommand)]
pub enum WorkshopCommand {
    /// A new workshop with its first owner.
    Add {
        /// How it is called.
        name: String,
        /// The address by which its owner signs in.
        #[arg(long)]
        owner: String,
        #[command(flatten)]
        password: PasswordArgs,
        #[command(flatten)]
        database: DatabaseArgs,
    },
}

/// What is done with people.
#[derive(Subcommand)]
pub enum PersonCommand {
    /// A new person of a workshop.
    Add {
        /// The address by which they sign in.
        email: String,
        /// The workshop's name.
        #[arg(long)]
        workshop: String,
        /// owner, mechanic, learner or viewer.
        #[arg(long)]
        role: String,
        #[command(flatten)]
        password: PasswordArgs,
        #[command(flatten)]
        database: DatabaseArgs,
    },
    /// A new password; sessions begun with the old one end.
    Password {
        /// Whose.
        email: String,
        #[command(flatten)]
        password: PasswordArgs,
        #[command(flatten)]
        database: DatabaseArgs,
    },
    /// Another role.
    Role {
        /// Whose.
        email: String,
        /// owner, mechanic, learner or viewer.
        role: String,
        #[command(flatten)]
        database: DatabaseArgs,
    },
    /// They sign in no more; what they did stays.
    Remove {
        /// Who.
        email: String,
        #[command(flatten)]
        database: DatabaseArgs,
    },
}

/// Where a password comes from.
#[derive(Args)]
pub struct PasswordArgs {
    /// Read the password from standard input; without it one is made and printed once.
    #[arg(long)]
    password_stdin: bool,
    /// What the person is called on screen; without it the part of the address before the @.
    #[arg(long)]
    called: Option<String>,
}

/// A password that is easy to read out and hard to guess: 20 of 32 letters and figures, 100 bits.
fn made_password() -> String {
    // Without those that are mistaken for each other.
    const LETTERS: &[u8] = b"abcdefghijkmnpqrstuvwxyz23456789";
    let mut random = rand::rngs::OsRng;
    let mut group = || -> String {
        let mut bytes = [0u8; 5];
        // Without chance from the system there is no password.
        random.try_fill_bytes(&mut bytes).expect("random bytes from the system");
        bytes.iter().map(|b| LETTERS[usize::from(b % 32)] as char).collect()
    };
    [group(), group(), group(), group()].join("-")
}

impl PasswordArgs {
    /// The password, and whether it was made here.
    fn read(&self) -> Result<(String, bool), Problem> {
        if !self.password_stdin {
            return Ok((made_password(), true));
        }
        let cannot = |e: std::io::Error| Problem::new("cannot-read", format!("standard input: {e}")).field("password");
        let mut text = String::new();
        std::io::stdin().take(8 << 10).read_to_string(&mut text).map_err(cannot)?;
        Ok((text.trim_end_matches(['\n', '\r']).to_string(), false))
    }

    fn called(&self, email: &str) -> String {
        let before = || email.split('@').next().unwrap_or(email).to_string();
        self.called.as_deref().map(str::trim).filter(|n| !n.is_empty()).map_or_else(before, String::from)
    }
}

/// A password that was made is printed once, as the last line.
fn print_password((password, was_made): &(String, bool)) {
    if *was_made {
        outln!("password: {password}");
    }
}

fn role(word: &str) -> Result<Role, Problem> {
    let error = || Problem::new("unknown-role", format!("“{word}” is no role: owner, mechanic, learner or viewer")).field("role");
    Role::parse(word).ok_or_else(error)
}

fn workshop_name(name: &str) -> Result<&str, Problem> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 100 || name.chars().any(char::is_control) {
        return Err(Problem::new("bad-name", "a workshop's name has 1 to 100 characters").field("name"));
    }
    Ok(name)
}

/// Starts work in the only workshop of a name.
async fn scope_of(store: &Store, workshop: &str) -> Result<Scope, Problem> {
    let field = |p: Problem| p.field("workshop");
    match store.workshops_named(workshop).await.map_err(problem)?[..] {
        [one] => store.scope(one).await.map_err(problem),
        [] => Err(field(Problem::new(
            "not-found",
            format!("there is no workshop “{workshop}”: make it with baricord workshop add"),
        ))),
        _ => Err(field(Problem::new("not-unique", format!("several workshops are called “{workshop}”")))),
    }
}

/// A person by their address, in their workshop.
async fn person_of(store: &Store, email: &str) -> Result<(Scope, uuid::Uuid), Problem> {
    let error = || Problem::new("not-found", format!("nobody signs in as {email}")).field("email");
    let person = store.person_by_email(email).await.map_err(problem)?.ok_or_else(error)?;
    Ok((store.scope(person.workshop_id).await.map_err(problem)?, person.id))
}

/// Does something with workshops.
pub async fn workshop(command: WorkshopCommand) -> Result<(), Problem> {
    let WorkshopCommand::Add { name, owner, password, database } = command;
    let name = workshop_name(&name)?;
    let store = database.open().await?;
    if !store.workshops_named(name).await.map_err(problem)?.is_empty() {
        return Err(Problem::new("exists", format!("there is a workshop “{name}” already")).field("name"));
    }
    let secret = password.read()?;
    let mut s = store.begin_workshop(name, false).await.map_err(problem)?;
    let called = password.called(&owner);
    store.add_person(&mut s, &owner, &called, Role::Owner, &secret.0).await.map_err(|e| at_owner(problem(e)))?;
    s.commit().await.map_err(problem)?;
    outln!("Workshop “{name}”; {owner} is its owner.");
    print_password(&secret);
    Ok(())
}

fn at_owner(p: Problem) -> Problem {
    if p.field.as_deref() == Some("email") { p.field("owner") } else { p }
}

/// Does something with people.
pub async fn person(command: PersonCommand) -> Result<(), Problem> {
    match command {
        PersonCommand::Add { email, workshop, role: word, password, database } => {
            let role = role(&word)?;
            let store = database.open().await?;
            let mut s = scope_of(&store, &workshop).await?;
            let secret = password.read()?;
            store.add_person(&mut s, &email, &password.called(&email), role, &secret.0).await.map_err(problem)?;
            s.commit().await.map_err(problem)?;
            outln!("{email} is {} of “{}”.", with_article(role), workshop.trim());
            print_password(&secret);
        }
        PersonCommand::Password { email, password, database } => {
            let store = database.open().await?;
            let (mut s, id) = person_of(&store, &email).await?;
            let secret = password.read()?;
            store.set_password(&mut s, id, &secret.0).await.map_err(problem)?;
            s.commit().await.map_err(problem)?;
            outln!("{email} has a new password; sessions begun with the old one have ended.");
            print_password(&secret);
        }
        PersonCommand::Role { email, role: word, database } => {
            let role = role(&word)?;
            let store = database.open().await?;
            let (mut s, id) = person_of(&store, &email).await?;
            s.set_role(id, Some(role)).await.map_err(problem)?;
            s.commit().await.map_err(problem)?;
            outln!("{email} is {} now.", with_article(role));
        }
        PersonCommand::Remove { email, database } => {
            let store = database.open().await?;
            let (mut s, id) = person_of(&store, &email).await?;
            s.set_role(id, None).await.map_err(problem)?;
            s.commit().await.map_err(problem)?;
            outln!("{email} signs in no more.");
        }
    }
    Ok(())
}

fn with_article(role: Role) -> String {
    format!("{} {}", if role == Role::Owner { "an" } else { "a" }, role.id())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_made_password_is_plain_and_never_the_same() {
        let all: std::collections::HashSet<String> = (0..200).map(|_| made_password()).collect();
        assert_eq!(all.len(), 200);
        for p in all {
            assert_eq!(p.len(), 23);
            assert!(p.chars().all(|c| c.is_ascii_alphanumeric() || c == '-'), "{p}");
            assert!(baricord_core::permission::check_password(&p).is_ok());
        }
    }

    #[test]
    fn names_and_roles_are_read_or_refused_by_field() {
        assert_eq!(workshop_name(" Skerry ").unwrap(), "Skerry");
        for bad in ["", "  ", "a\nb", &"x".repeat(101)] {
            assert_eq!(workshop_name(bad).unwrap_err().field.as_deref(), Some("name"));
        }
        assert_eq!(role("chief").unwrap_err().field.as_deref(), Some("role"));
        assert_eq!(with_article(role("owner").unwrap()), "an owner");
    }
}
