//! Signals in the middle of a change, what a killed command leaves, a damaged inventory, and a file system that takes no
//! writes: the harbor stays whole, and the next command works.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

use super::coast::{Run, brightharbor, run};

/// A harbor whose web server's test and reload take a second, and leave a mark when they begin.
struct Slow {
    folder: tempfile::TempDir,
}

impl Slow {
    fn new() -> Self {
        let slow = Self { folder: tempfile::tempdir().unwrap() };
        fs::create_dir(slow.path("homes")).unwrap();
        let marks = slow.path("marks").display().to_string();
        let step = |mark: &str| format!("[\"sh\", \"-c\", \"echo {mark} >> {marks}; sleep 1\"]");
        let settings = format!(
            "[host]\naddresses = [\"192.0.2.10\"]\nnameservers = [\"ns1.saltmarsh.example.\"]\n[sites]\nhome = \
             \"{}/{{account}}\"\n[web]\nserver = \"nginx\"\nlisten = [\"127.0.0.9\"]\ntest = {}\nreload = {}\n\
             [dns]\nserver = \"none\"\n[internet]\nroot-servers = [\"127.0.0.9:9\"]\nresolvers = [\"127.0.0.9:9\"]\n",
            slow.path("homes").display(),
            step("test"),
            step("reload"),
        );
        fs::write(slow.path("settings.toml"), settings).unwrap();
        let file = slow.path("settings.toml").display().to_string();
        assert!([0, 3].contains(&slow.run(&["init", "--settings", &file]).exit));
        slow.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
        slow
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = brightharbor();
        command.args(arguments).env("BRIGHTHARBOR", self.path("harbor"));
        command
    }

    fn run(&self, arguments: &[&str]) -> Run {
        run(&mut self.command(arguments))
    }

    fn json(&self, arguments: &[&str]) -> Value {
        serde_json::from_str(&self.run(&[arguments, &["--json"]].concat()).stdout).unwrap()
    }

    fn begin(&self, arguments: &[&str], mark: &str) -> Child {
        self.begun(self.command(arguments).arg("--json"), mark)
    }

    fn begun(&self, command: &mut Command, mark: &str) -> Child {
        let child = command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let until = Instant::now() + Duration::from_secs(20);
        while !fs::read_to_string(self.path("marks")).unwrap_or_default().contains(mark) {
            assert!(Instant::now() < until, "`{mark}` never began");
            std::thread::sleep(Duration::from_millis(5));
        }
        child
    }

    fn outcome(&self) -> String {
        self.json(&["logbook"])["entries"][0]["outcome"].as_str().unwrap().to_string()
    }

    fn has_site(&self) -> bool {
        let file = self.path("harbor/servers/nginx/crumbandtide.example.conf").exists();
        let listed = self.run(&["site", "list"]).expect(0).contains("crumbandtide.example");
        assert_eq!(file, listed, "the file and the inventory agree");
        file
    }

    fn is_clear(&self) -> bool {
        fs::read_dir(self.path("harbor/kept")).unwrap().next().is_none()
    }
}

fn send(child: &Child, signal: &str) {
    let sent = Command::new("kill").args([&format!("-{signal}"), &child.id().to_string()]).status().unwrap();
    assert!(sent.success());
}

fn ended(child: Child) -> (Option<i32>, Value) {
    let output = child.wait_with_output().unwrap();
    (output.status.code(), serde_json::from_slice(&output.stdout).unwrap_or_default())
}

const ATTACH: [&str; 6] = ["attach", "crumbandtide.example", "--account", "bakery", "--zone", "elsewhere"];

#[test]
fn a_signal_takes_a_change_back_before_the_program_ends() {
    for signal in ["TERM", "INT", "HUP"] {
        let slow = Slow::new();
        let child = slow.begin(&ATTACH, "test");
        send(&child, signal);
        let (exit, said) = ended(child);
        assert_eq!((exit, &said["error"]["code"]), (Some(5), &"rolled-back".into()), "{signal}: {said}");
        assert_eq!(said["error"]["message"], format!("stopped by SIG{signal}"), "{said}");
        assert!(!slow.has_site() && slow.is_clear() && slow.outcome() == "rolled back");
        assert!(!slow.path("homes/bakery/www").exists(), "nothing was made in the home yet");
    }
}

/// Ctrl-C goes to a whole group: the server's program that is under way is not cut off by it.
#[test]
fn a_signal_to_the_whole_group_leaves_the_servers_programs_alone() {
    use std::os::unix::process::CommandExt;
    let slow = Slow::new();
    let settings = slow.path("harbor/harbor.toml");
    let text = fs::read_to_string(&settings).unwrap();
    fs::write(
        &settings,
        text.replace("sleep 1\"]\nreload", "sleep 1; echo ended >> MARKS\"]\nreload")
            .replace("MARKS", &slow.path("marks").display().to_string()),
    )
    .unwrap();
    let child = slow.begun(slow.command(&ATTACH).arg("--json").process_group(0), "test");
    let group = format!("-{}", child.id());
    assert!(Command::new("kill").args(["-INT", "--", &group]).status().unwrap().success());
    assert_eq!(ended(child).0, Some(5));
    assert!(fs::read_to_string(slow.path("marks")).unwrap().contains("ended"), "it came to its end");
}

#[test]
fn a_signal_with_the_last_step_lets_the_change_end() {
    let slow = Slow::new();
    let child = slow.begin(&ATTACH, "reload");
    send(&child, "TERM");
    let (exit, said) = ended(child);
    assert_eq!((exit, &said["error"]["code"]), (Some(1), &"stopped".into()), "{said}");
    assert!(slow.has_site() && slow.is_clear() && slow.outcome() == "done");
}

#[test]
fn who_is_started_to_outlive_its_terminal_goes_on_when_that_is_gone() {
    let slow = Slow::new();
    let program = slow.command(&[]).get_program().to_string_lossy().into_owned();
    let mut command = Command::new("sh");
    command.args(["-c", "trap '' HUP; exec \"$@\"", "sh", &program]).args(ATTACH).arg("--json");
    let child = slow.begun(command.env("BRIGHTHARBOR", slow.path("harbor")), "test");
    send(&child, "HUP");
    let (exit, said) = ended(child);
    assert!([Some(1), Some(3)].contains(&exit) && said["error"].is_null(), "{exit:?} {said}");
    assert!(slow.has_site() && slow.outcome() == "done");
}

#[test]
fn a_second_signal_ends_the_program_at_once_and_the_next_command_takes_back() {
    let slow = Slow::new();
    let child = slow.begin(&ATTACH, "test");
    send(&child, "TERM");
    std::thread::sleep(Duration::from_millis(100));
    send(&child, "TERM");
    let begun = Instant::now();
    assert_eq!(ended(child).0, Some(143));
    assert!(begun.elapsed() < Duration::from_millis(700), "it waits for nothing");
    assert_eq!(slow.outcome(), "begun");
    slow.run(&["account", "change", "bakery", "--email", "tide@saltmarsh.example"]).expect(0);
    assert!(!slow.has_site() && slow.is_clear());
}

#[test]
fn what_kept_files_a_killed_command_leaves_goes_with_the_next_change() {
    let slow = Slow::new();
    // Killed before it was noted, or just after it was done; and one that could not be taken back whole.
    for number in ["77", "1", "2"] {
        fs::create_dir_all(slow.path("harbor/kept").join(number)).unwrap();
        fs::write(slow.path("harbor/kept").join(number).join("0"), "a key of old").unwrap();
    }
    slow.run(&["account", "change", "bakery", "--email", "tide@saltmarsh.example"]).expect(0);
    assert!(slow.is_clear());
    fs::create_dir_all(slow.path("harbor/kept/1")).unwrap();
    let inventory = rusqlite::Connection::open(slow.path("harbor/inventory.sqlite")).unwrap();
    inventory.execute("UPDATE logbook SET outcome = 'failed' WHERE id = 1", []).unwrap();
    drop(inventory);
    slow.run(&["tend"]).expect(0);
    assert!(slow.path("harbor/kept/1").exists(), "somebody may want them to put things right");
}

#[test]
fn a_damaged_inventory_is_recognised_and_its_advice_brings_it_back() {
    let slow = Slow::new();
    let tended = slow.json(&["tend"]);
    let backup = tended["backup"].as_str().unwrap_or_else(|| panic!("{tended}")).to_string();
    assert!(Path::new(&backup).exists());
    assert_eq!(slow.json(&["tend"])["backup"], Value::Null, "once a day");
    let inventory = slow.path("harbor/inventory.sqlite");
    let sound = fs::read(&inventory).unwrap();
    let (half, head) = (sound.len() / 2, 4096.min(sound.len()));
    let spoilt =
        [sound[..half].to_vec(), [&sound[..head], &vec![0x5a; sound.len() - head][..]].concat(), b"x".to_vec()];
    for content in spoilt {
        fs::write(&inventory, content).unwrap();
        for command in [&["site", "list"][..], &["init", "--check"], &["tend"]] {
            let said = slow.json(command);
            assert_eq!(said["error"]["code"], "inventory-damaged", "{command:?}: {said}");
            let advice = said["error"]["advice"].as_str().unwrap().to_string();
            assert!(advice.contains(&backup), "{advice}");
            // The advice is a line for a shell.
            let line = advice.split_once("backup: ").unwrap().1.split("; then").next().unwrap();
            if command[0] == "tend" {
                assert!(Command::new("sh").args(["-c", line]).status().unwrap().success(), "{line}");
            }
        }
        slow.run(&["account", "list"]).expect(0);
        slow.run(&["account", "change", "bakery", "--email", "tide@saltmarsh.example"]);
    }
}

#[test]
fn reading_works_where_nothing_can_be_written() {
    let slow = Slow::new();
    if !brightharbor_io::install::is_root() {
        eprintln!("not root: no file system can be made read-only");
        return;
    }
    let harbor = slow.path("harbor").display().to_string();
    let within = |words: &str| {
        let line = format!(
            "mount --bind {harbor} {harbor} && mount -o remount,bind,ro {harbor} && exec {} --harbor {harbor} {words}",
            brightharbor().get_program().to_string_lossy()
        );
        run(Command::new("unshare").args(["--mount", "sh", "-c", &line]))
    };
    assert!(within("account list").expect(0).contains("bakery"));
    within("site list").expect(0);
    let refused = within("account change bakery --email tide@saltmarsh.example");
    assert!(refused.exit == 4 && refused.stderr.contains("next:"), "{refused:?}");
}
