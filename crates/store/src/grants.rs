//! Which sites a person was given to see.

use crate::accounts::{Capability, Role};
use crate::scope::SiteKey;
use crate::transaction::NewEvent;
use crate::{Action, Result, Snapshot, Store, Subject};
use diesel::prelude::*;
use diesel::sql_types::{Array, BigInt, Text};
use std::collections::BTreeMap;

#[derive(QueryableByName)]
struct Restricted {
    #[diesel(sql_type = BigInt)]
    user_id: i64,
    #[diesel(sql_type = Array<BigInt>)]
    sites: Vec<i64>,
}

#[derive(QueryableByName)]
struct Person {
    #[diesel(sql_type = Text)]
    role: String,
}

/// Whoever makes a site sees it.
pub(crate) fn of_maker(connection: &mut PgConnection, user_id: i64, site: SiteKey) -> QueryResult<()> {
    diesel::sql_query(
        "INSERT INTO user_sites (user_id, site_id) SELECT id, $2 FROM users WHERE id = $1 AND NOT every_site",
    )
    .bind::<BigInt, _>(user_id)
    .bind::<BigInt, _>(site)
    .execute(connection)?;
    Ok(())
}

impl Snapshot<'_> {
    /// The people who do not see every site, with the numbers of those that they see.
    ///
    /// # Errors
    /// As any query.
    pub fn restricted(&mut self) -> Result<BTreeMap<i64, Vec<i64>>> {
        let people: Vec<Restricted> = diesel::sql_query(
            "SELECT u.id AS user_id, ARRAY(SELECT site_id FROM user_sites g WHERE g.user_id = u.id ORDER BY site_id) AS sites \
             FROM users u WHERE NOT every_site",
        )
        .load(self.connection)?;
        Ok(people.into_iter().map(|person| (person.user_id, person.sites)).collect())
    }
}

impl Store {
    /// Says which sites a person sees: every one (`None`), or these. `false` when there is no such person, or it is an
    /// owner, who sees every site.
    ///
    /// # Errors
    /// As any query.
    pub fn give_sites(&self, user_id: i64, sites: Option<&[i64]>, actor: i64) -> Result<bool> {
        self.connection()?.transaction(|connection| {
            let person: Option<Person> = diesel::sql_query("SELECT role FROM users WHERE id = $1 FOR UPDATE")
                .bind::<BigInt, _>(user_id)
                .get_result(connection)
                .optional()?;
            let role = person.and_then(|person| Role::from_code(&person.role));
            if role.is_none_or(|role| role.may(Capability::SeeEverySite)) {
                return Ok(false);
            }
            crate::accounts::keep_sites(connection, user_id, sites)?;
            let said = match sites {
                None => "sees every site".to_owned(),
                Some(sites) => format!("sees {} sites", sites.len()),
            };
            let event = NewEvent::new(Subject::Account, Some(user_id), Action::Changed);
            event.with(serde_json::json!(sites)).said(said).write(connection, None, Some(actor))?;
            Ok(true)
        })
    }
}
