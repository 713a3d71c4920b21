//! Links of an owner: each opens one site until it is revoked, and every view is counted.

use super::{World, done, world};
use jiff::Timestamp;
use upland_store::Subject;
use upland_store::owner_links::{MOST_LINKS, OwnerBaseline, OwnerView, WaterPrice};

fn view() -> OwnerView {
    OwnerView {
        name: "Owner of the slope".into(),
        language: "es".into(),
        baseline: OwnerBaseline::AsFound,
        price: Some(WaterPrice { a_m3: 2.4, currency: "€".into() }),
    }
}

#[test]
fn a_link_opens_its_site_until_it_is_revoked_and_again_when_it_is_restored() {
    let World { store, user, site, .. } = &world();
    let id = done(store, *user, *site, |c| c.make_owner_link(&view(), b"one")).unwrap().unwrap();
    let open = || store.read(|s| s.owner_link_of(b"one")).unwrap();
    let opened = open().unwrap();
    assert_eq!((opened.id, opened.site, &opened.view), (id, *site, &view()));
    assert_eq!(store.read(|s| s.owner_link_of(b"two")).unwrap(), None);
    store.count_owner_view(id).unwrap();
    store.count_owner_view(id).unwrap();
    let listed = store.read(|s| s.owner_links(*site)).unwrap().remove(0);
    assert_eq!((listed.views, listed.viewed_at.is_some(), listed.revoked_at), (2, true, None));
    assert!(done(store, *user, *site, |c| c.revoke_owner_link(id, true)).unwrap());
    assert_eq!(open(), None);
    assert!(!done(store, *user, *site, |c| c.revoke_owner_link(id, true)).unwrap(), "it is so already");
    assert!(done(store, *user, *site, |c| c.revoke_owner_link(id, false)).unwrap());
    assert!(open().is_some());
    let events = store.read(|s| s.events(Some(site.number()), 10)).unwrap();
    assert_eq!(events.iter().filter(|event| event.subject == Subject::OwnerLink.code()).count(), 3);
}

#[test]
fn a_link_of_another_site_cannot_be_revoked_from_here_and_a_removed_site_opens_nothing() {
    let World { store, user, site, .. } = &world();
    let id = done(store, *user, *site, |c| c.make_owner_link(&view(), b"one")).unwrap().unwrap();
    assert!(!done(store, *user, *site, |c| c.revoke_owner_link(id + 1, true)).unwrap());
    let remove = Some(Timestamp::now());
    assert!(store.set_site_removed(*user, *site, remove).unwrap());
    assert_eq!(store.read(|s| s.owner_link_of(b"one")).unwrap(), None);
}

#[test]
fn a_site_has_so_many_links_and_no_more() {
    let World { store, user, site, .. } = &world();
    let make = |hash: &[u8]| done(store, *user, *site, |c| c.make_owner_link(&view(), hash)).unwrap();
    for number in 0..MOST_LINKS {
        assert!(make(&number.to_be_bytes()).is_some());
    }
    assert_eq!(make(b"one more"), None);
}
