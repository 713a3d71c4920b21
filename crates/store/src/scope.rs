//! Whose sites: a query about a site takes a [`SiteKey`], and a key comes out of the [`Scope`] of who asks. A handler that
//! forgets to ask has no key, and does not compile.

use diesel::backend::Backend;
use diesel::deserialize::{FromSql, FromSqlRow};
use diesel::expression::AsExpression;
use diesel::pg::Pg;
use diesel::serialize::{Output, ToSql};
use diesel::sql_types::BigInt;
use std::sync::Arc;

/// A site that somebody may see, or that the program itself works for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, AsExpression, FromSqlRow)]
#[diesel(sql_type = BigInt)]
pub struct SiteKey(i64);

impl SiteKey {
    /// The identity of the site, as it stands in addresses.
    #[must_use]
    pub const fn number(self) -> i64 {
        self.0
    }
}

impl std::fmt::Display for SiteKey {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.fmt(formatter)
    }
}

impl ToSql<BigInt, Pg> for SiteKey {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> diesel::serialize::Result {
        <i64 as ToSql<BigInt, Pg>>::to_sql(&self.0, out)
    }
}

impl FromSql<BigInt, Pg> for SiteKey {
    fn from_sql(bytes: <Pg as Backend>::RawValue<'_>) -> diesel::deserialize::Result<Self> {
        <i64 as FromSql<BigInt, Pg>>::from_sql(bytes).map(Self)
    }
}

/// The sites that somebody sees.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Scope {
    /// Empty where it is every site, those to come too.
    given: Option<Arc<[i64]>>,
}

impl Scope {
    /// The scope of a person: every site, or those that were given.
    pub(crate) fn of(given: Option<Vec<i64>>) -> Self {
        Self { given: given.map(Arc::from) }
    }

    /// The scope of the program itself: workers, commands, the demo. No request of a person has it.
    #[must_use]
    pub const fn program() -> Self {
        Self { given: None }
    }

    /// A site by its number; `None` where it is not among those of the scope. Whether it is there at all is for the query
    /// to find out.
    #[must_use]
    pub fn site(&self, number: i64) -> Option<SiteKey> {
        self.given.as_ref().is_none_or(|given| given.contains(&number)).then_some(SiteKey(number))
    }

    /// The numbers of its sites; `None` where it is every site.
    #[must_use]
    pub fn given(&self) -> Option<&[i64]> {
        self.given.as_deref()
    }
}

#[cfg(test)]
#[allow(clippy::disallowed_methods)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_had_of_what_was_given_and_of_nothing_else() {
        let some = Scope::of(Some(vec![2, 5]));
        assert_eq!([1, 2, 5, 6].map(|n| some.site(n).map(SiteKey::number)), [None, Some(2), Some(5), None]);
        assert_eq!((some.given(), Scope::of(None).given()), (Some(&[2, 5][..]), None));
        assert_eq!(Scope::of(Some(vec![])).site(1), None, "nothing was given");
        assert_eq!(Scope::program().site(9).map(SiteKey::number), Some(9));
    }
}
