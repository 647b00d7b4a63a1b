//! Whether a server's main file includes a file of ours, followed through its own includes. Reads, never writes.

use std::fs;
use std::path::{Path, PathBuf};

use brightharbor_core::render::{IncludeAsk, IncludeWalk};

/// Whether the main file, or a file it includes, has an include line for `wanted`.
pub fn includes(main_file: &Path, wanted: &Path) -> std::io::Result<bool> {
    visit(IncludeWalk::new(main_file.to_path_buf(), wanted.to_path_buf()), main_file, |_, _| {})
}

/// The files of a server's configuration, with their texts: the main file and what it includes. Those below `without` are
/// left out.
pub fn configuration(main_file: &Path, without: &Path) -> std::io::Result<Vec<(PathBuf, String)>> {
    let mut files = Vec::new();
    let walk = IncludeWalk::new(main_file.to_path_buf(), PathBuf::new()).leaving_out(without.to_path_buf());
    visit(walk, main_file, |file, text| files.push((file.to_path_buf(), text.to_string())))?;
    Ok(files)
}

fn visit(mut walk: IncludeWalk, main_file: &Path, mut see: impl FnMut(&Path, &str)) -> std::io::Result<bool> {
    while let Some(ask) = walk.next_ask() {
        match ask {
            IncludeAsk::Read(file) => match fs::read(&file) {
                Ok(bytes) => {
                    let text = String::from_utf8_lossy(&bytes);
                    see(&file, &text);
                    walk.read(&text);
                }
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
