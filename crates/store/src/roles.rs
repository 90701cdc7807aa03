//! The database's roles: whether the owner can bring it up to date, and whether people can sign in under the
//! role that the application connects as. What is missing is said as the statements that put it right.

use crate::{Store, StoreError};
use baricord_core::error::Problem;
use sqlx::PgPool;

fn roles(message: String) -> StoreError {
    Problem::new("database-roles", message).into()
}

/// Before migrations: an owner who may not make roles must have been given them.
pub(crate) async fn check_owner(pool: &PgPool) -> Result<(), StoreError> {
    let (owner, is_superuser, makes_roles, has_app, has_definer): (String, bool, bool, bool, bool) = sqlx::query_as(
        "SELECT rolname::text, rolsuper, rolcreaterole, EXISTS (SELECT FROM pg_roles WHERE rolname = 'baricord_app'),
           EXISTS (SELECT FROM pg_roles d JOIN pg_auth_members m ON m.roleid = d.oid
                   WHERE d.rolname = 'baricord_definer' AND d.rolbypassrls AND m.member = r.oid)
         FROM pg_roles r WHERE rolname = current_user",
    )
    .fetch_one(pool)
    .await?;
    if is_superuser || (has_definer && (has_app || makes_roles)) {
        return Ok(());
    }
    let app = if has_app { "" } else { "CREATE ROLE baricord_app LOGIN; " };
    Err(roles(format!(
        "the owner “{owner}” of the database may not make the roles that Baricord needs. Have a superuser run once: \
         {app}CREATE ROLE baricord_definer NOLOGIN BYPASSRLS; GRANT baricord_definer TO \"{owner}\"; then start again"
    )))
}

fn not_ready() -> StoreError {
    let message = "the database is not up to date: start once with DATABASE_OWNER_URL set to its owner";
    Problem::new("database-not-ready", message).into()
}

impl Store {
    /// Whether people can sign in under the role of `DATABASE_URL`, and only see their own workshop.
    pub async fn check_roles(&self) -> Result<(), StoreError> {
        let (role, passes, owns): (String, bool, bool) = sqlx::query_as(
            "SELECT rolname::text, rolsuper OR rolbypassrls,
               EXISTS (SELECT FROM pg_class c WHERE c.relowner = r.oid AND c.relnamespace = 'public'::regnamespace)
             FROM pg_roles r WHERE rolname = current_user",
        )
        .fetch_one(self.pool())
        .await?;
        if passes || owns {
            return Err(roles(format!(
                "DATABASE_URL connects as “{role}”, which is not held to its workshop: let it connect as baricord_app, \
                 and give the owner in DATABASE_OWNER_URL alone"
            )));
        }
        let has_functions: bool =
            sqlx::query_scalar("SELECT to_regproc('public.workshops_named') IS NOT NULL").fetch_one(self.pool()).await?;
        if !has_functions {
            return Err(not_ready());
        }
        let blind: Vec<String> = sqlx::query_scalar(
            "SELECT p.proname::text FROM pg_proc p JOIN pg_roles o ON o.oid = p.proowner
             WHERE p.pronamespace = 'public'::regnamespace AND p.prosecdef AND (NOT (o.rolsuper OR o.rolbypassrls)
               OR NOT has_function_privilege(p.oid, 'EXECUTE')) ORDER BY 1",
        )
        .fetch_all(self.pool())
        .await?;
        if !blind.is_empty() {
            return Err(roles(format!(
                "nobody could sign in: {} must belong to a role with BYPASSRLS and be open to “{role}”. Have a superuser run: \
                 ALTER ROLE baricord_definer BYPASSRLS; for each: ALTER FUNCTION … OWNER TO baricord_definer; \
                 GRANT EXECUTE ON FUNCTION … TO \"{role}\"",
                blind.join(", ")
            )));
        }
        // The question that sign-in asks, asked for nobody.
        sqlx::query("SELECT id FROM person_to_sign_in('')").fetch_optional(self.pool()).await?;
        Ok(())
    }
    /// Whether sessions can be kept: their table is made by its own package.
    pub async fn check_sessions(&self) -> Result<(), StoreError> {
        let there: bool =
            sqlx::query_scalar("SELECT to_regclass('tower_sessions.session') IS NOT NULL").fetch_one(self.pool()).await?;
        if !there {
            return Err(not_ready());
        }
        let (role, keeps): (String, bool) = sqlx::query_as(
            "SELECT current_user::text, has_schema_privilege('tower_sessions', 'USAGE') AND has_table_privilege('tower_sessions.session', 'INSERT')",
        )
        .fetch_one(self.pool())
        .await?;
        if !keeps {
            return Err(roles(format!(
                "no session could be kept: GRANT USAGE ON SCHEMA tower_sessions TO \"{role}\"; \
                 GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA tower_sessions TO \"{role}\""
            )));
        }
        Ok(())
    }
}
