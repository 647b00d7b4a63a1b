//! Files named `.htaccess`, on a real Apache httpd: nothing in them counts until an administrator says which groups of
//! directives do, and consents.

use std::fs;
use std::os::unix::fs::MetadataExt;

use super::php_pools::{Fpm, page, with_two_accounts};
use super::voyage::Port;

const SITE: &str = "crumbandtide.example";
/// What applications of this kind ship with.
const RULES: &str = "RewriteEngine On\nRewriteBase /\nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\n\
                     RewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /index.php [L]\n";

#[test]
fn they_count_on_apache_where_an_administrator_allows_it() {
    let port = Port::new("apache");
    let fpm = Fpm::start(&port.path("."));
    with_two_accounts(&port, &fpm);
    let root = port.path(&format!("homes/bakery/www/{SITE}"));
    fs::write(root.join(".htaccess"), RULES).unwrap();
    fs::create_dir(root.join("office")).unwrap();
    fs::write(root.join("office/list.txt"), "the list").unwrap();
    assert_eq!(page(&port, SITE, "/tide/table", vec![]).0, 404, "nobody allowed it");

    let change = ["site", "change", SITE, "--htaccess", "fileinfo,Limit"];
    let refused = port.json(&change, 4);
    assert_eq!(refused["error"]["consents"][0]["code"], "trusts-htaccess", "{refused}");
    assert_eq!(refused["error"]["consents"][0]["groups"], serde_json::json!(["FileInfo", "Limit"]), "{refused}");
    assert_eq!(page(&port, SITE, "/tide/table", vec![]).0, 404);
    let with_consent = [&change[..], &["--yes"]].concat();
    port.json(&with_consent, 0);
    let (status, text) = page(&port, SITE, "/tide/table", vec![]);
    assert_eq!((status, text.lines().next()), (200, Some("user games")), "{text}");
    let (status, text) = page(&port, SITE, "/tide/table", b"a=b".to_vec());
    assert_eq!((status, text.lines().next()), (200, Some("user games")), "{text}");
    assert_eq!(port.json(&["site", "show", SITE], 0)["site"]["content"]["htaccess"][0], "FileInfo");
    let shown = port.run(&["site", "show", SITE]).expect(0);
    assert!(shown.contains("may set FileInfo, Limit"), "{shown}");
    // The other account's site has none of it.
    let other = port.path("homes/choir/www/lanternchoir.example");
    fs::write(other.join(".htaccess"), RULES).unwrap();
    assert_eq!(page(&port, "lanternchoir.example", "/tide/table", vec![]).0, 404);

    // What was consented to is not asked for again, nor what takes less; another group is.
    port.json(&["site", "change", SITE, "--htaccess", "FileInfo", "--body-limit", "1M"], 0);
    let more = port.json(&["site", "change", SITE, "--htaccess", "FileInfo,Indexes"], 4);
    assert_eq!(more["error"]["consents"][0]["groups"], serde_json::json!(["Indexes"]), "{more}");
    // A directive of a group that is not allowed is the customer's fault, and no other site's.
    fs::write(root.join(".htaccess"), "Require all granted\n").unwrap();
    assert_eq!(page(&port, SITE, "/note.html", vec![]).0, 500);
    assert_eq!(page(&port, "lanternchoir.example", "/note.html", vec![]).0, 200);

    // Links to what others own stay closed, and so do protected paths, proofs for CAs and hidden files.
    port.json(&["site", "change", SITE, "--htaccess", "AuthConfig,FileInfo,Indexes,Limit", "--yes"], 0);
    let password = port.path("password");
    fs::write(&password, "the tide is high").unwrap();
    let protect = ["site", "protect", SITE, "--path", "/office", "--user", "anna", "--password-file"];
    port.json(&[&protect[..], &[password.to_str().unwrap()]].concat(), 0);
    let open = "Require all granted\nSatisfy Any\nAllow from all\n";
    for text in ["Require all granted\n", open, "AuthMerging Or\nRequire all granted\n", "AuthType None\n"] {
        fs::write(root.join(".htaccess"), text).unwrap();
        fs::write(root.join("office/.htaccess"), text).unwrap();
        let (status, _) = page(&port, SITE, "/office/list.txt", vec![]);
        assert!([401, 500].contains(&status), "{text}: {status}");
    }
    fs::write(root.join(".htaccess"), RULES).unwrap();
    fs::remove_file(root.join("office/.htaccess")).unwrap();
    std::os::unix::fs::symlink("/etc/hostname", root.join("host.txt")).unwrap();
    let customer = fs::metadata(&root).unwrap().uid();
    std::os::unix::fs::lchown(root.join("host.txt"), Some(customer), None).unwrap();
    assert_eq!(page(&port, SITE, "/host.txt", vec![]).0, 403);
    assert_eq!(page(&port, SITE, "/.htaccess", vec![]).0, 404);
    assert_eq!(page(&port, SITE, "/.well-known/acme-challenge/none", vec![]).0, 404);
    assert_eq!(page(&port, SITE, "/office/list.txt", vec![]).0, 401);

    // What the model says holds with that reservation.
    fs::write(root.join(".htaccess"), "Redirect 302 /old https://quay.example/\n").unwrap();
    let url = format!("https://{SITE}:{}/old", port.world.cast.https_port);
    let tried = port.json(&["redirect", "try", &url], 0);
    let reservation = format!("unless .htaccess in {} says otherwise", root.display());
    assert!(tried["model_end"].as_str().is_some_and(|words| words.contains(&reservation)), "{tried}");

    port.json(&["site", "change", SITE, "--htaccess", "off"], 0);
    fs::write(root.join(".htaccess"), RULES).unwrap();
    assert_eq!(page(&port, SITE, "/tide/table", vec![]).0, 404);
    // Taking that back allows it again, and needs the consent again.
    let refused = port.json(&["undo"], 4);
    assert_eq!(refused["error"]["consents"][0]["code"], "trusts-htaccess", "{refused}");
    port.json(&["undo", "--yes"], 0);
    assert_eq!(page(&port, SITE, "/tide/table", vec![]).0, 200);
}
