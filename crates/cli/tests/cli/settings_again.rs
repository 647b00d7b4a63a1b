//! A second `init`: given keys change in harbor.toml, and nothing else does.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

use super::coast::Coast;

#[test]
fn given_keys_are_set_and_the_rest_of_the_settings_stays() {
    let coast = Coast::new();
    let path = coast.harbor().join("harbor.toml");
    let text = fs::read_to_string(&path).unwrap();
    let before = format!("# Written by the harbor master.\n{}", text.replace("[host]", "[host] # the new building"));
    fs::write(&path, &before).unwrap();
    // A file that is kept elsewhere, and closed to others, stays so.
    let kept = coast.harbor().join("kept.toml");
    fs::rename(&path, &kept).unwrap();
    symlink(&kept, &path).unwrap();
    fs::set_permissions(&kept, fs::Permissions::from_mode(0o640)).unwrap();
    let contact = ["init", "--ca-contact", "crew@saltmarsh.example"];

    let shown = coast.run(&[&contact[..], &["--dry-run"]].concat()).expect(0);
    assert!(shown.contains("+contact = \"crew@saltmarsh.example\""), "{shown}");
    assert_eq!(fs::read_to_string(&path).unwrap(), before);

    let done = coast.json(&contact, 0);
    assert_eq!(done["carried_out"], true, "{done}");
    let after = fs::read_to_string(&path).unwrap();
    let without =
        |text: &str| text.lines().filter(|line| !line.starts_with("contact")).map(String::from).collect::<Vec<_>>();
    assert_eq!(without(&after), without(&before));
    assert!(path.is_symlink());
    assert_eq!(fs::metadata(&kept).unwrap().permissions().mode() & 0o777, 0o640);
    assert!(after.contains("\ncontact = \"crew@saltmarsh.example\"\n"), "{after}");
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);

    let again = coast.run(&contact).expect(0);
    assert!(again.contains("Nothing to change"), "{again}");
    let entries = coast.json(&["logbook"], 0)["entries"].clone();
    assert!(entries.as_array().unwrap().iter().any(|entry| entry["what"] == "init"), "{entries}");

    // What no command could use is not written.
    for wrong in [["--ca-contact", "nobody"], ["--ca-directory", "ca.example"], ["--ca-directory", "ftp://ca.example/"]]
    {
        coast.run(&[&["init"][..], &wrong].concat()).expect(2);
    }
    assert_eq!(fs::read_to_string(&path).unwrap(), after);
    // Settings that are wrong already are told with their line, and stay.
    fs::write(&path, after.replace("resolvers", "resolver")).unwrap();
    let misspelt = coast.run(&contact).expect(2);
    assert!(misspelt.contains("unknown field `resolver`"), "{misspelt}");
}
