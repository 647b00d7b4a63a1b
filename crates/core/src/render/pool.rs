//! The file of an account's pool of PHP (PHP-FPM): run as its own system user, with folders of its own for what scripts put
//! down, and a socket that only the web server and that user may open.

use std::fmt::Write;
use std::path::Path;

use crate::account::{Account, Limits};
use crate::change::content_hash;
use crate::harbor::Php;
use crate::site::Content;

const WRITTEN: &str = "; Written by brightharbor for the PHP of account ";

/// What a pool is made of.
pub struct Pool<'a> {
    pub version: &'a str,
    pub php: &'a Php,
    pub account: &'a Account,
    /// What its plan allows, where that is less or more than usual.
    pub limits: Limits,
    /// The system user that the account has.
    pub user: &'a str,
    /// The group of the web server.
    pub web_group: &'a str,
    /// Where its scripts put down sessions, uploads and temporary files.
    pub state: &'a Path,
    /// The contents of all sites that it runs scripts of: the largest limit counts.
    pub contents: &'a [&'a Content],
}

/// The text of the file.
pub fn pool_file(pool: &Pool<'_>) -> String {
    let Pool { version, php, account, limits, user, web_group, state, contents } = pool;
    let (children, memory) = (limits.scripts.unwrap_or(php.children), limits.script_memory.unwrap_or(php.memory));
    let name = &account.name;
    let body_limit = contents.iter().map(|content| content.body_limit()).max().unwrap_or(Content::BODY_LIMIT);
    let time_limit = contents.iter().map(|content| content.time_limit()).max().unwrap_or(Content::TIME_LIMIT);
    let (socket, state) = (php.socket(version, name), state.display());
    let mut text = format!("[brightharbor-{name}]\nuser = {user}\n");
    let _ = writeln!(text, "listen = {}\nlisten.owner = {user}\nlisten.group = {web_group}", socket.display());
    text.push_str("listen.mode = 0660\npm = ondemand\n");
    let _ = writeln!(text, "pm.max_children = {}\npm.process_idle_timeout = 60s\npm.max_requests = 10000", children);
    let _ = writeln!(text, "request_terminate_timeout = {time_limit}s\nsecurity.limit_extensions = .php");
    let _ = writeln!(text, "env[TMPDIR] = \"{state}/temporary\"");
    for (setting, value) in [
        ("session.save_path", format!("{state}/sessions")),
        ("upload_tmp_dir", format!("{state}/temporary")),
        ("sys_temp_dir", format!("{state}/temporary")),
        ("memory_limit", format!("{memory}M")),
        ("upload_max_filesize", body_limit.to_string()),
        ("post_max_size", body_limit.to_string()),
        ("max_execution_time", time_limit.to_string()),
    ] {
        let _ = writeln!(text, "php_admin_value[{setting}] = \"{value}\"");
    }
    // Debian leaves clearing away to a timer that knows its own folder alone.
    text.push_str("php_admin_value[session.gc_probability] = 1\nphp_admin_flag[expose_php] = off\n");
    let hash = &content_hash(text.as_bytes())[..16];
    format!("{WRITTEN}{name}. Change it by commands; its content is {hash}.\n{text}")
}

/// Whether a pool's file is as it was written.
pub fn is_pool_as_written(file: &[u8]) -> bool {
    let text = String::from_utf8_lossy(file);
    let Some((first, body)) = text.split_once('\n').filter(|(first, _)| first.starts_with(WRITTEN)) else {
        return false;
    };
    let hash = first.trim_end_matches('.').rsplit(' ').next().unwrap_or_default();
    hash.len() == 16 && content_hash(body.as_bytes()).starts_with(hash)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;

    #[test]
    fn the_largest_limit_of_its_sites_counts_and_a_hand_edit_is_seen() {
        let php: Php = toml_like();
        let account = Account::new(AccountName::parse("bakery").unwrap(), "baker@saltmarsh.example", "/home/bakery");
        let large = Content { body_limit: Some(50 << 20), ..Content::default() };
        let slow = Content { time_limit: Some(300), ..Content::default() };
        let pool = Pool {
            version: "8.2",
            php: &php,
            account: &account,
            limits: Limits { scripts: Some(2), ..Limits::default() },
            user: "bakery",
            web_group: "www-data",
            state: Path::new("/harbor/php/bakery"),
            contents: &[&large, &slow],
        };
        let text = pool_file(&pool);
        for line in [
            "listen = /run/php/brightharbor-8.2-bakery.sock",
            "user = bakery",
            "pm.max_children = 2",
            "listen.group = www-data",
            "request_terminate_timeout = 300s",
            "php_admin_value[post_max_size] = \"52428800\"",
            "php_admin_value[memory_limit] = \"128M\"",
        ] {
            assert!(text.lines().any(|found| found == line), "{line}: {text}");
        }
        assert!(is_pool_as_written(text.as_bytes()));
        assert!(!is_pool_as_written(text.replace("10000", "10").as_bytes()) && !is_pool_as_written(b"[www]\n"));
    }

    fn toml_like() -> Php {
        let words = |word: &str| vec![word.to_string()];
        serde_json::from_value(serde_json::json!({
            "pool-folder": "/etc/php/8.2/fpm/pool.d", "test": words("test"), "reload": words("reload"),
        }))
        .unwrap()
    }
}
