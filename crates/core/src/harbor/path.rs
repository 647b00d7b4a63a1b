//! Which paths may appear in web server and DNS server files.
//!
//! nginx has no way to write a `$` in a path, and quoting differs among the servers, so the set is narrow on purpose.

use std::path::{Component, Path};

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    #[error("the path `{0}` must be absolute")]
    Relative(String),
    #[error("the path `{path}` has the character {character:?}, which server files cannot hold safely")]
    Character { path: String, character: char },
    #[error("the path `{0}` is not valid UTF-8")]
    NotText(String),
    #[error("the path `{0}` has a `..` in it")]
    Upwards(String),
}

/// Accepts absolute paths of letters, digits, blanks inside, and `/ . _ - + @ ~ ,`.
pub fn check_path(path: &Path) -> Result<(), PathError> {
    let shown = || path.display().to_string();
    let text = path.to_str().ok_or_else(|| PathError::NotText(shown()))?;
    if !path.is_absolute() {
        return Err(PathError::Relative(shown()));
    }
    if path.components().any(|component| component == Component::ParentDir) {
        return Err(PathError::Upwards(shown()));
    }
    let fits = |c: char| c.is_alphanumeric() || "/._-+@~, ".contains(c);
    match text.chars().find(|c| !fits(*c)) {
        Some(character) => Err(PathError::Character { path: shown(), character }),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_servers_cannot_quote_alike_is_refused() {
        let check = |text: &str| check_path(Path::new(text));
        assert!(check("/home/choir/www/lanternchoir.example").is_ok());
        assert!(check("/home/bäckerei/web site").is_ok());
        assert!(matches!(check("home"), Err(PathError::Relative(_))));
        assert!(matches!(check("/home/../etc"), Err(PathError::Upwards(_))));
        for character in ['"', '$', '\\', ';', '{', '\n', '\'', '\0', '#', '%', '*'] {
            let refused = check(&format!("/home/a{character}b"));
            assert!(matches!(refused, Err(PathError::Character { character: c, .. }) if c == character));
        }
    }
}
