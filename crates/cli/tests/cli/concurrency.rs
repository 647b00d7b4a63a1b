//! Two commands at once, and commands that are killed: one waits, the next one takes back.

use std::fs;
use std::process::Stdio;

use crate::coast::{Coast, run};

/// Starts a command and kills it; it may have ended by itself before.
fn kill_after(coast: &Coast, arguments: &[&str], milliseconds: u64) {
    let mut command = coast.command(arguments);
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(std::time::Duration::from_millis(milliseconds));
    let _ = child.kill();
    let _ = child.wait();
}

#[test]
fn of_two_commands_at_once_one_waits_says_so_and_both_are_done() {
    let coast = Coast::new();
    // The lock is held by hand, so that the second command certainly finds it taken.
    let lock = fs::OpenOptions::new().write(true).open(coast.harbor().join("lock")).unwrap();
    lock.lock().unwrap();
    let mut waiting = coast.command(&["account", "add", "choir", "--email", "choir@saltmarsh.example"]);
    let child = waiting.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    std::thread::sleep(std::time::Duration::from_millis(400));
    drop(lock);
    let output: crate::coast::Run = child.wait_with_output().unwrap().into();
    assert!(output.stderr.contains("waiting: another command is running in this harbor"), "{output:?}");
    output.expect(0);

    let children: Vec<_> = (0..6)
        .map(|number| {
            let (name, email) = (format!("crew{number}"), "crew@saltmarsh.example");
            coast.command(&["account", "add", &name, "--email", email]).spawn().unwrap()
        })
        .collect();
    for mut child in children {
        assert!(child.wait().unwrap().success());
    }
    assert_eq!(coast.json(&["account", "list"], 0)["accounts"].as_array().unwrap().len(), 8);
}

#[test]
fn a_command_killed_at_any_moment_leaves_a_harbor_that_the_next_one_mends() {
    let coast = Coast::new();
    let homes_before = coast.path("homes/bakery");
    for (round, milliseconds) in [2, 5, 8, 12, 16, 20, 25, 30, 40, 60, 90].into_iter().enumerate() {
        let name = format!("round{round}.example");
        kill_after(&coast, &["attach", &name, "--account", "bakery"], milliseconds);
        // The next command finishes or takes back; after it, files and inventory agree.
        coast.run(&["tend"]);
        let sites = coast.json(&["site", "list"], 0).to_string();
        let attached = sites.contains(&name);
        assert_eq!(coast.harbor().join(format!("servers/plain/{name}.json")).exists(), attached, "{name}");
        assert_eq!(coast.harbor().join(format!("zones/{name}.zone")).exists(), attached, "{name}");
        let again = coast.run(&["attach", &name, "--account", "bakery"]);
        assert_eq!(again.exit, if attached { 4 } else { 3 }, "{again:?}");
    }
    assert!(homes_before.is_dir());
    let logbook = coast.json(&["logbook", "--last", "100"], 0);
    assert!(logbook["entries"].as_array().unwrap().iter().all(|entry| entry["outcome"] != "begun"), "{logbook}");
}

#[test]
fn a_killed_order_goes_on_with_the_next_run_and_leaves_no_proof_behind() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);
    coast.delegate_here("crumbandtide.example");
    for milliseconds in [30, 60, 80, 100, 120, 150] {
        kill_after(&coast, &["tend"], milliseconds);
    }
    run(&mut coast.command(&["tend"])).expect(0);
    let files: Vec<_> =
        crate::coast::snapshot(&coast.harbor().join("certificates")).into_iter().map(|(path, _)| path).collect();
    let certificates = fs::read_dir(coast.harbor().join("certificates/crumbandtide.example")).unwrap().count();
    assert_eq!(certificates, 1, "one certificate, however often it was killed: {files:?}");
    assert_eq!(coast.json(&["site", "list"], 0)["sites"][0]["https"], "forced");
}

/// The web server's test, or its reload, kills the program that runs it: right behind the files, or behind all but
/// the inventory. So the moment is certain, whatever the machine.
#[test]
fn killed_between_the_files_and_the_inventory_it_is_taken_back_and_said() {
    for moment in ["test", "reload"] {
        let coast = Coast::new();
        let path = coast.harbor().join("harbor.toml");
        let settings = fs::read_to_string(&path).unwrap();
        let (web, rest) = settings.split_once("[dns]").unwrap();
        let head = web.split("[web]").next().unwrap();
        let with = |test: &str, reload: &str| {
            let words = |script: &str| format!("[\"sh\", \"-c\", \"{script}\"]");
            let web = format!("[web]\nserver = \"nginx\"\ntest = {}\nreload = {}\n", words(test), words(reload));
            fs::write(&path, format!("{head}{web}[dns]{rest}")).unwrap();
        };
        let kill = "kill -9 $PPID";
        with(if moment == "test" { kill } else { "true" }, if moment == "reload" { kill } else { "true" });
        fs::create_dir_all(coast.harbor().join("servers/nginx")).unwrap();
        let killed = coast.run(&["attach", "gullrock.example", "--account", "bakery"]);
        assert_eq!(killed.exit, -1, "{killed:?}");
        let files =
            ["servers/nginx/gullrock.example.conf", "zones/gullrock.example.zone"].map(|f| coast.harbor().join(f));
        assert!(files.iter().all(|file| file.exists()), "{moment}: it was killed behind the files");
        assert_eq!(coast.json(&["site", "list"], 0)["sites"], serde_json::json!([]));

        with("true", "true");
        let text = coast.run(&["tend"]).expect(0);
        assert!(text.contains("`attach gullrock.example --account bakery` ended midway"), "{text}");
        assert!(files.iter().all(|file| !file.exists()), "{moment}");
        assert_eq!(coast.json(&["logbook"], 0)["entries"][0]["outcome"], "rolled back");
        assert!(!coast.run(&["tend"]).expect(0).contains("killed"), "told once");
        let again = coast.run(&["attach", "gullrock.example", "--account", "bakery"]);
        assert!([1, 3].contains(&again.exit) && files.iter().all(|file| file.exists()), "{again:?}");
    }
}

#[test]
fn of_two_commands_that_want_a_certificate_for_one_site_one_orders() {
    let coast = Coast::with_bakery();
    let folder = fs::read_dir(coast.harbor().join("ca")).unwrap().next().unwrap().unwrap().path();
    let path = folder.join("orders/crumbandtide.example.lock");
    let lock = fs::File::create_new(&path).unwrap();
    lock.lock().unwrap();
    let orders = coast.world.orders();
    let refused = coast.run(&["certificate", "renew", "crumbandtide.example"]).expect(4);
    assert!(refused.contains("another command is getting a certificate"), "{refused}");
    assert_eq!(coast.world.orders(), orders);
    assert_eq!(coast.json(&["tend"], 0)["later"], serde_json::json!([]), "nothing is remembered of it");
    drop(lock);
    let children: Vec<_> = (0..4)
        .map(|_| {
            let mut command = coast.command(&["certificate", "renew", "crumbandtide.example"]);
            command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
        })
        .collect();
    let ended: Vec<i32> = children.into_iter().map(|mut child| child.wait().unwrap().code().unwrap()).collect();
    assert!(ended.contains(&0) && ended.iter().all(|exit| [0, 4].contains(exit)), "{ended:?}");
    let done = ended.iter().filter(|exit| **exit == 0).count();
    assert!(coast.world.orders() - orders <= done, "{ended:?}");
    coast.json(&["certificate", "check", "--all"], 0);
    assert!(!path.exists());
}
