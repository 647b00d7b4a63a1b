//! Whether a server's main file includes a file of ours, followed through its own includes. Reads, never writes.

use std::fs;
use std::path::{Path, PathBuf};

use brightharbor_core::render::{fits_pattern, include_targets};

/// A configuration with more includes than this is followed no further.
const MOST_FILES: usize = 500;

/// Whether the main file, or a file it includes, has an include line for `wanted`.
pub fn includes(main_file: &Path, wanted: &Path) -> std::io::Result<bool> {
    let base = main_file.parent().unwrap_or(Path::new("/")).to_path_buf();
    let mut to_read = vec![main_file.to_path_buf()];
    let mut read = Vec::new();
    let mut first = true;
    while let Some(file) = to_read.pop() {
        if read.contains(&file) || read.len() >= MOST_FILES {
            continue;
        }
        let text = match fs::read(&file) {
            Ok(bytes) => String::from_utf8_lossy(&bytes).into_owned(),
            // Only the main file must be readable; the server itself knows about the others.
            Err(error) if first => return Err(error),
            Err(_) => continue,
        };
        first = false;
        for target in include_targets(&text) {
            let target = base.join(target);
            if target == wanted {
                return Ok(true);
            }
            to_read.extend(expand(&target));
        }
        read.push(file);
    }
    Ok(false)
}

/// The files behind a path whose last part may hold `*`.
fn expand(target: &Path) -> Vec<PathBuf> {
    let (Some(folder), Some(pattern)) = (target.parent(), target.file_name().and_then(|name| name.to_str())) else {
        return vec![];
    };
    if !pattern.contains('*') {
        return vec![target.to_path_buf()];
    }
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    entries
        .map(|entry| entry.path())
        .filter(|path| path.file_name().is_some_and(|name| fits_pattern(&name.to_string_lossy(), pattern)))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn found_directly_through_another_file_and_not_in_a_comment() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
        fs::create_dir(folder.path().join("conf.d")).unwrap();
        let wanted = Path::new("/harbor/servers/nginx/*.conf");
        let main = folder.path().join("main.conf");
        write("main.conf", "http {\n  # include /harbor/servers/nginx/*.conf;\n  include conf.d/*.conf;\n}\n");
        write("conf.d/one.conf", "include one.conf; include main.conf;\n");
        assert!(!includes(&main, wanted).unwrap());
        write("conf.d/two.conf", "include /harbor/servers/nginx/*.conf;\n");
        assert!(includes(&main, wanted).unwrap());
        write(
            "main.conf",
            "include \"/harbor/servers/bind/zones.conf\";\nIncludeOptional /harbor/servers/apache/*.conf\n",
        );
        assert!(includes(&main, Path::new("/harbor/servers/bind/zones.conf")).unwrap());
        assert!(includes(&main, Path::new("/harbor/servers/apache/*.conf")).unwrap());
        write("main.conf", "server:\n    listen: 127.0.0.1\ninclude: \"/harbor/servers/knot/zones.conf\"\n");
        assert!(includes(&main, Path::new("/harbor/servers/knot/zones.conf")).unwrap());
        assert!(includes(&folder.path().join("none"), wanted).is_err());
    }
}
