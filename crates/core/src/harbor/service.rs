//! Services beside the web server that need a certificate, as `harbor.toml` settles them.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::name::Hostname;

/// A service beside the web server that needs the certificate of a hostname.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Service {
    pub hostname: Hostname,
    /// Where it takes `key.pem`, `chain.pem`, or `both.pem` from. Made as a link, so that all change at once.
    pub folder: PathBuf,
    /// The system user that its files belong to; whoever runs this when not named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// Of its files, octal.
    #[serde(default = "default_service_mode", with = "octal")]
    pub mode: u32,
    /// Tells it to take the new files: a program with its arguments.
    #[serde(default)]
    pub reload: Vec<String>,
}

fn default_service_mode() -> u32 {
    0o600
}

/// File modes as they are usually written: `"0640"`. Nothing that others could read.
mod octal {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub fn serialize<S: Serializer>(mode: &u32, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&format!("{mode:04o}"))
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<u32, D::Error> {
        let text = String::deserialize(from)?;
        match u32::from_str_radix(&text, 8) {
            Ok(mode) if mode & !0o660 == 0 && mode & 0o400 != 0 => Ok(mode),
            _ => Err(D::Error::custom(format!("`{text}` is not a mode for keys: give 0600, 0640 or 0660"))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_never_for_everybody() {
        let read = |mode: &str| {
            let text = serde_json::json!({ "hostname": "mail.gullrock.example", "folder": "/etc/post", "mode": mode });
            serde_json::from_value::<Service>(text).map(|service| service.mode)
        };
        for (text, mode) in [("0600", 0o600), ("640", 0o640), ("0660", 0o660), ("0400", 0o400)] {
            assert_eq!(read(text).unwrap(), mode);
        }
        for text in ["0644", "0700", "0000", "rw", "", "4600", "99"] {
            assert!(read(text).unwrap_err().to_string().contains("not a mode for keys"), "{text}");
        }
        let plain = serde_json::json!({ "hostname": "mail.gullrock.example", "folder": "/etc/post" });
        assert_eq!(serde_json::from_value::<Service>(plain).unwrap().mode, 0o600);
    }
}
