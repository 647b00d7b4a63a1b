//! A change of how a site is served: what was asked for, on top of what is there.

use super::{Answering, Cached, Content, Overridable, Part};

/// What was asked for; `None`: it stays. The inner `None` takes it away.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ContentWish {
    /// Each with its path; the inner `None` takes the part away.
    pub parts: Vec<(String, Option<Answering>)>,
    pub index: Option<Vec<String>>,
    pub listing: Option<bool>,
    pub single_page: Option<Option<String>>,
    pub missing_page: Option<Option<String>>,
    /// All of them anew.
    pub cache: Option<Vec<Cached>>,
    pub front: Option<bool>,
    /// All of them anew.
    pub no_scripts: Option<Vec<String>>,
    /// All of them anew.
    pub htaccess: Option<Vec<Overridable>>,
    pub body_limit: Option<Option<u64>>,
    pub time_limit: Option<Option<u32>>,
}

impl ContentWish {
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// How the site is served with it.
    pub fn applied_to(&self, before: &Content) -> Content {
        let mut after = before.clone();
        for (path, by) in &self.parts {
            after.parts.retain(|part| part.path != *path);
            // Files at the root are what there is without a part.
            match by {
                Some(Answering::Files) if path == "/" => {}
                Some(by) => after.parts.push(Part { path: path.clone(), by: by.clone() }),
                None => {}
            }
        }
        after.parts.sort();
        put(&mut after.index, &self.index);
        put(&mut after.listing, &self.listing);
        put(&mut after.single_page, &self.single_page);
        put(&mut after.missing_page, &self.missing_page);
        put(&mut after.cache, &self.cache);
        put(&mut after.front, &self.front);
        put(&mut after.no_scripts, &self.no_scripts);
        put(&mut after.htaccess, &self.htaccess);
        put(&mut after.body_limit, &self.body_limit);
        put(&mut after.time_limit, &self.time_limit);
        after
    }
}

fn put<T: Clone>(place: &mut T, wished: &Option<T>) {
    if let Some(wished) = wished {
        *place = wished.clone();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::parse_part;

    #[test]
    fn parts_are_put_changed_and_taken_away_and_the_rest_stays() {
        let parts = |typed: &[&str]| ContentWish {
            parts: typed.iter().map(|typed| parse_part(typed).unwrap()).collect(),
            ..ContentWish::default()
        };
        let paths = |content: &Content| content.parts.iter().map(|part| part.path.clone()).collect::<Vec<_>>();
        let wish =
            ContentWish { listing: Some(true), body_limit: Some(Some(1 << 20)), ..parts(&["/z=files", "php:8.2"]) };
        let first = wish.applied_to(&Content::default());
        assert_eq!(
            (paths(&first), first.listing, first.body_limit),
            (vec!["/".into(), "/z".into()], true, Some(1 << 20))
        );
        let second = parts(&["files", "/z=http://127.0.0.1:1"]).applied_to(&first);
        assert_eq!((paths(&second), second.listing), (vec!["/z".to_string()], true));
        assert_eq!(second.parts[0].by.word(), "program");
        let third =
            ContentWish { body_limit: Some(None), listing: Some(false), ..parts(&["/z=off"]) }.applied_to(&second);
        assert!(third.is_default() && ContentWish::default().is_empty() && !wish.is_empty(), "{third:?}");
    }
}
