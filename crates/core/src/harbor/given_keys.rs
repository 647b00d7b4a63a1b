//! The decision to set single keys of `harbor.toml`: whatever else stands there, comments too, stays as it is.

use std::path::PathBuf;

use toml_edit::{DocumentMut, Item, TableLike, TomlError};

use super::Settings;
use crate::change::{FileWrite, Plan, Purpose};

/// Keys of `harbor.toml` with the values that they are to have.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct GivenKeys {
    wanted: Settings,
    /// Table and key.
    keys: Vec<(&'static str, &'static str)>,
}

impl GivenKeys {
    pub fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    /// Takes these keys of a table from what `set` makes of the settings.
    pub fn give(&mut self, table: &'static str, keys: &[&'static str], set: impl FnOnce(&mut Settings)) {
        set(&mut self.wanted);
        self.keys.extend(keys.iter().map(|key| (table, *key)));
    }

    /// The given keys in settings that are not written yet.
    fn set_in(&self, text: &str) -> Result<String, TomlError> {
        let mut document: DocumentMut = text.parse()?;
        // No value of the settings is one that TOML does not know.
        let given = toml_edit::ser::to_document(&self.wanted).unwrap_or_default();
        for (table, key) in &self.keys {
            let value = given.get(table).and_then(Item::as_table_like).and_then(|table| table.get(key)).cloned();
            let item = document.entry(table).or_insert(toml_edit::table());
            if let Some(table) = item.as_table_like_mut() {
                set(table, key, value);
            }
        }
        Ok(document.to_string())
    }
}

/// A value keeps the words behind it: `# the old building`.
fn set(table: &mut dyn TableLike, key: &str, value: Option<Item>) {
    let Some(mut value) = value else {
        table.remove(key);
        return;
    };
    match table.get_mut(key) {
        Some(present) => {
            if let (Some(old), Some(new)) = (present.as_value(), value.as_value_mut()) {
                *new.decor_mut() = old.decor().clone();
            }
            *present = value;
        }
        None => {
            table.insert(key, value);
        }
    }
}

/// `harbor.toml` as it is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingsFile {
    pub path: PathBuf,
    pub content: Vec<u8>,
    /// It may be closed to some who can read other files.
    pub mode: u32,
}

/// Decides what is written. Settings that say so already stay untouched.
///
/// # Errors
///
/// If the file is no TOML.
pub fn change_settings(file: &SettingsFile, given: &GivenKeys) -> Result<Plan, TomlError> {
    let mut plan = Plan::new("init");
    let text = given.set_in(&String::from_utf8_lossy(&file.content))?;
    if text.as_bytes() != file.content {
        let before = Some(file.content.clone());
        plan.set.file(FileWrite::new(file.path.clone(), before, text, file.mode, Purpose::Loose));
    }
    Ok(plan)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::change::Change;

    const BEFORE: &str = "# Ours.\n[host]\naddresses = [\"192.0.2.1\"] # the old building\n\n[ca] # by letter\n\
                          contact = \"a@saltmarsh.example\"\ndirectory = \"https://ca.example/\"\n";

    #[test]
    fn given_keys_are_set_and_everything_else_stays() {
        let mut given = GivenKeys::default();
        assert!(given.is_empty());
        assert_eq!(given.set_in(BEFORE).unwrap(), BEFORE);
        given.give("host", &["addresses"], |to| to.host.addresses = vec!["192.0.2.10".parse().unwrap()]);
        given.give("ca", &["terms-accepted"], |to| to.ca.terms_accepted = true);
        given.give("web", &["main-file"], |to| to.web.main_file = Some("/etc/nginx/nginx.conf".into()));
        // A key that has no value any more goes.
        given.give("ca", &["directory"], |to| to.ca.directory = None);
        let after = "# Ours.\n[host]\naddresses = [\"192.0.2.10\"] # the old building\n\n[ca] # by letter\n\
                     contact = \"a@saltmarsh.example\"\nterms-accepted = true\n\n[web]\nmain-file = \"/etc/nginx/nginx.conf\"\n";
        assert_eq!(given.set_in(BEFORE).unwrap(), after);
        assert!(!given.is_empty());
        let settings: Settings = toml::from_str(after).unwrap();
        assert!(settings.ca.terms_accepted && settings.ca.contact.is_some());
    }

    #[test]
    fn what_says_so_already_is_not_written_again() {
        let mut given = GivenKeys::default();
        given.give("host", &["addresses"], |to| to.host.addresses = vec!["192.0.2.1".parse().unwrap()]);
        let mut file = SettingsFile { path: "/harbor/harbor.toml".into(), content: BEFORE.into(), mode: 0o640 };
        assert!(change_settings(&file, &given).unwrap().is_empty());
        given.give("host", &["nameservers"], |to| to.host.nameservers = vec!["ns1.example".parse().unwrap()]);
        let plan = change_settings(&file, &given).unwrap();
        let [Change::WriteFile(write)] = &plan.set.changes[..] else { panic!("{plan:?}") };
        assert_eq!((&write.path, write.mode), (&file.path, 0o640));
        assert!(!plan.set.needs().web_reload, "no server hears of it");
        file.content = b"[host".to_vec();
        assert!(change_settings(&file, &given).is_err());
    }
}
