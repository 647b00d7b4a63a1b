//! The page that a new document root starts with, until the customer puts their own there.

use crate::name::Host;

/// The `generator` line shows whether a page is this one.
pub const STARTER_MARK: &str = "<meta name=\"generator\" content=\"brightharbor starter page\">";

/// The starter page of a hostname. Hostnames hold nothing that HTML would have to escape.
pub fn starter_page(hostname: &Host) -> String {
    let name = hostname.international();
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n{STARTER_MARK}\n\
         <title>{name}</title>\n</head>\n<body>\n<h1>{name}</h1>\n<p>This site is ready for its first page.</p>\n\
         </body>\n</html>\n"
    )
}
