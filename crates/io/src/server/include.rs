//! Whether a server's main file includes a file of ours, followed through its own includes. Reads, never writes.

use std::fs;
use std::path::Path;

use brightharbor_core::render::{IncludeAsk, IncludeWalk};

/// Whether the main file, or a file it includes, has an include line for `wanted`.
pub fn includes(main_file: &Path, wanted: &Path) -> std::io::Result<bool> {
    let mut walk = IncludeWalk::new(main_file.to_path_buf(), wanted.to_path_buf());
    while let Some(ask) = walk.next_ask() {
        match ask {
            IncludeAsk::Read(file) => match fs::read(&file) {
                Ok(bytes) => walk.read(&String::from_utf8_lossy(&bytes)),
                // Only the main file must be readable; the server itself knows about the others.
                Err(error) if file == main_file => return Err(error),
                Err(_) => {}
            },
            IncludeAsk::List(folder) => {
                let entries = fs::read_dir(folder).into_iter().flatten().flatten();
                let names: Vec<String> =
                    entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
                walk.listed(&names);
            }
        }
    }
    Ok(walk.found())
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
