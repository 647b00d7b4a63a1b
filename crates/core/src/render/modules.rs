//! The modules of a web server that the files written here need, and how the server is asked which it has.
//!
//! Pure: the words of the question go out, what the server printed comes in. `brightharbor-io` runs it; `init --check`
//! shows what is missing.

use crate::harbor::WebServer;

/// As `LoadModule` names them (Apache httpd 2.4); mod_mime tells browsers what a page is. `http2_module` is not among
/// them: without it `Protocols` leaves h2 out.
const APACHE: [&str; 7] = [
    "alias_module",
    "authz_core_module",
    "dir_module",
    "headers_module",
    "mime_module",
    "rewrite_module",
    "ssl_module",
];

/// What sites need beside where programs run, or paths are protected.
const APACHE_FOR_PROGRAMS: [&str; 7] = [
    "auth_basic_module",
    "authn_file_module",
    "authz_host_module",
    "authz_user_module",
    "proxy_fcgi_module",
    "proxy_http_module",
    "proxy_module",
];
/// Built in, unless they were left out.
const NGINX_FOR_PROGRAMS: [&str; 4] =
    ["http_access_module", "http_auth_basic_module", "http_fastcgi_module", "http_proxy_module"];

/// As its `configure` names what is not built in by default.
const NGINX: [&str; 2] = ["http_ssl_module", "http_v2_module"];
/// Built in, unless it was left out by `--without-`.
const NGINX_OWN: [&str; 1] = ["http_rewrite_module"];

/// The command that makes the server tell its modules, made from that of its config test: the same program, for Apache
/// httpd with the same main file.
pub fn modules_question(server: WebServer, test: &[String]) -> Option<Vec<String>> {
    let of_test = |word: &&String| !["configtest", "-t"].contains(&word.as_str());
    let (program, asked): (Vec<&String>, &[&str]) = match server {
        // `configtest` is a word of the control script, for `-t`.
        WebServer::Apache => (test.iter().filter(of_test).collect(), &["-t", "-D", "DUMP_MODULES"]),
        WebServer::Nginx => (test.iter().take_while(|word| !word.starts_with('-')).collect(), &["-V"]),
        WebServer::StandIn | WebServer::None => return None,
    };
    let asked = asked.iter().map(ToString::to_string);
    (!program.is_empty()).then(|| program.into_iter().cloned().chain(asked).collect())
}

/// The modules that are needed and not among those that the server `told`; `None` if that is not what it told.
pub fn missing_modules(server: WebServer, told: &str) -> Option<Vec<&'static str>> {
    let has_word = |wanted: &str| told.split_whitespace().any(|word| word == wanted);
    match server {
        WebServer::Apache if told.contains("Loaded Modules:") => {
            Some(APACHE.into_iter().filter(|module| !has_word(module)).collect())
        }
        WebServer::Nginx if told.contains("configure arguments:") => {
            let is_built = |module: &str| told.contains(&format!("--with-{module}"));
            let is_left_out = |module: &str| has_word(&format!("--without-{module}"));
            let missing = NGINX.into_iter().filter(|module| !is_built(module));
            Some(missing.chain(NGINX_OWN.into_iter().filter(|module| is_left_out(module))).collect())
        }
        _ => None,
    }
}

/// The same of what only sites need that run programs or have protected paths.
pub fn missing_for_programs(server: WebServer, told: &str) -> Vec<&'static str> {
    let has_word = |wanted: &str| told.split_whitespace().any(|word| word == wanted);
    match server {
        WebServer::Apache if told.contains("Loaded Modules:") => {
            APACHE_FOR_PROGRAMS.into_iter().filter(|module| !has_word(module)).collect()
        }
        WebServer::Nginx if told.contains("configure arguments:") => {
            let is_left_out = |module: &&str| has_word(&format!("--without-{module}"));
            NGINX_FOR_PROGRAMS.into_iter().filter(is_left_out).collect()
        }
        _ => vec![],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<String> {
        text.split(' ').map(String::from).collect()
    }

    #[test]
    fn the_program_of_the_config_test_is_asked_with_its_main_file() {
        let asked = |server, test| modules_question(server, &words(test)).map(|words| words.join(" "));
        let of_script = asked(WebServer::Apache, "/usr/sbin/apachectl configtest").unwrap();
        assert_eq!(of_script, "/usr/sbin/apachectl -t -D DUMP_MODULES");
        let of_program = asked(WebServer::Apache, "apache2 -f /srv/a.conf -t").unwrap();
        assert_eq!(of_program, "apache2 -f /srv/a.conf -t -D DUMP_MODULES");
        assert_eq!(asked(WebServer::Nginx, "doas nginx -p /srv -t -q").unwrap(), "doas nginx -V");
        assert_eq!(asked(WebServer::StandIn, "any"), None);
        assert_eq!(modules_question(WebServer::Nginx, &[]), None);
    }

    #[test]
    fn what_the_server_does_not_tell_is_missing() {
        let told = "Loaded Modules:\n core_module (static)\n alias_module (shared)\n authz_core_module (shared)\n \
                    dir_module (shared)\n mime_module (shared)\n ssl_module (shared)\n";
        let missing = missing_modules;
        assert_eq!(missing(WebServer::Apache, told), Some(vec!["headers_module", "rewrite_module"]));
        let built = "configure arguments: --with-http_ssl_module --with-http_v2_module";
        assert_eq!(missing(WebServer::Nginx, built), Some(vec![]));
        let built = "configure arguments: --with-http_v2_module --without-http_rewrite_module";
        assert_eq!(missing(WebServer::Nginx, built), Some(vec!["http_ssl_module", "http_rewrite_module"]));
        let of_programs = missing_for_programs(WebServer::Apache, &format!("{told} proxy_module (shared)\n"));
        assert!(
            of_programs.contains(&"proxy_fcgi_module") && !of_programs.contains(&"proxy_module"),
            "{of_programs:?}"
        );
        let built = "configure arguments: --without-http_proxy_module";
        assert_eq!(missing_for_programs(WebServer::Nginx, built), ["http_proxy_module"]);
        assert!(missing_for_programs(WebServer::Nginx, "").is_empty());
        // Something else answered.
        assert_eq!(missing(WebServer::Nginx, ""), None);
        assert_eq!(missing(WebServer::Apache, built), None);
    }
}
