//! Listeners of a web server's own configuration that would take the visitors of ours, or lose theirs to ours: nginx and Apache
//! httpd give a connection to the blocks with the most specific address, and to the others nothing.

use std::net::IpAddr;

use crate::harbor::WebServer;

/// Where a block listens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Listener {
    /// `None`: at every address.
    address: Option<IpAddr>,
    port: u16,
    /// From 1.
    line: usize,
}

/// A server or virtual host of somebody else.
#[derive(Debug, Default)]
struct Block {
    listeners: Vec<Listener>,
    /// At something, which may be a socket.
    listens: bool,
    has_name: bool,
}

/// A block that cannot stand beside ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Clash {
    /// From 1.
    pub line: usize,
    pub port: u16,
    pub kind: ClashKind,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ClashKind {
    /// It listens at this very address, and ours at all: ours would never answer there.
    TakesOurs(IpAddr),
    /// It listens at all addresses, and ours at this very one: its names would not be answered there any more.
    LosesTheirs(IpAddr),
}

/// The first block that clashes with ours. `listen` is what our blocks listen at (none: every address), `addresses` are
/// those of this host.
///
/// ```
/// use brightharbor_core::harbor::WebServer;
/// use brightharbor_core::render::{ClashKind, clash};
/// let text = "server {\n  listen 192.0.2.10:80;\n  server_name old.example;\n}\n";
/// let address = "192.0.2.10".parse().unwrap();
/// let found = clash(WebServer::Nginx, text, &[], &[address], &[80, 443]).unwrap();
/// assert_eq!((found.line, found.kind), (2, ClashKind::TakesOurs(address)));
/// assert_eq!(clash(WebServer::Nginx, text, &[address], &[address], &[80, 443]), None);
/// ```
pub fn clash(server: WebServer, text: &str, listen: &[IpAddr], addresses: &[IpAddr], ports: &[u16]) -> Option<Clash> {
    let blocks = match server {
        WebServer::Nginx => nginx_blocks(text),
        WebServer::Apache => apache_blocks(text),
        WebServer::StandIn | WebServer::None => return None,
    };
    let clashes = |block: &Block, listener: &Listener| {
        let Listener { address, port, line } = *listener;
        let at = |kind| Some(Clash { line, port, kind });
        match (address.filter(|one| !one.is_unspecified()), listen) {
            _ if !ports.contains(&port) => None,
            (Some(address), []) if addresses.contains(&address) => at(ClashKind::TakesOurs(address)),
            // A block without a name is the page of a fresh machine: nobody asks for it.
            (None, [ours, ..]) if block.has_name => at(ClashKind::LosesTheirs(*ours)),
            _ => None,
        }
    };
    blocks.iter().find_map(|block| block.listeners.iter().find_map(|listener| clashes(block, listener)))
}

fn nginx_blocks(text: &str) -> Vec<Block> {
    let mut blocks: Vec<Block> = Vec::new();
    // The depth at which the server block that is read was opened.
    let (mut depth, mut inside) = (0_usize, None);
    let (mut words, mut opened_at): (Vec<String>, usize) = (Vec::new(), 0);
    for (at, line) in text.lines().enumerate() {
        let line = line.split('#').next().unwrap_or_default();
        let spaced = line.replace('{', " { ").replace('}', " } ").replace(';', " ; ");
        for word in spaced.split_whitespace() {
            match word {
                "{" => {
                    if words.last().is_some_and(|last| last == "server") && inside.is_none() {
                        inside = Some(depth);
                        blocks.push(Block::default());
                        opened_at = at + 1;
                    }
                    depth += 1;
                    words.clear();
                }
                "}" => {
                    depth = depth.saturating_sub(1);
                    // A server block without `listen` is at port 80 of every address.
                    if let (true, Some(block)) = (inside == Some(depth), blocks.last_mut())
                        && !block.listens
                    {
                        block.listeners.extend(listener("80", opened_at));
                    }
                    inside = inside.filter(|opened| depth > *opened);
                    words.clear();
                }
                ";" => {
                    if let (Some(opened), Some(block)) = (inside, blocks.last_mut())
                        && depth == opened + 1
                    {
                        match words.split_first() {
                            Some((directive, rest)) if directive == "listen" => {
                                block.listens = true;
                                block.listeners.extend(rest.first().and_then(|typed| listener(typed, at + 1)));
                            }
                            Some((directive, rest)) if directive == "server_name" => {
                                block.has_name |=
                                    rest.iter().any(|name| !matches!(name.as_str(), "_" | "\"\"" | "localhost"));
                            }
                            _ => {}
                        }
                    }
                    words.clear();
                }
                word => words.push(word.to_string()),
            }
        }
    }
    blocks
}

fn apache_blocks(text: &str) -> Vec<Block> {
    let mut blocks: Vec<Block> = Vec::new();
    let mut inside = false;
    for (at, line) in text.lines().enumerate() {
        let line = line.trim().to_ascii_lowercase();
        let mut words = line.trim_end_matches('>').split_whitespace();
        match words.next().unwrap_or_default() {
            "<virtualhost" => {
                inside = true;
                let listeners = words.filter_map(|typed| listener(typed, at + 1)).collect();
                blocks.push(Block { listeners, listens: true, has_name: false });
            }
            "</virtualhost" => inside = false,
            "servername" | "serveralias" if inside => {
                if let Some(block) = blocks.last_mut() {
                    block.has_name |= words.any(|name| name != "localhost");
                }
            }
            _ => {}
        }
    }
    blocks
}

/// `80`, `192.0.2.10:80`, `[2001:db8::10]:443`, `*:80`; an address alone is at port 80. Sockets and names are none.
fn listener(typed: &str, line: usize) -> Option<Listener> {
    let of = |address: Option<IpAddr>, port: u16| Some(Listener { address, port, line });
    if let Ok(port) = typed.parse() {
        return of(None, port);
    }
    if let Ok(address) = typed.trim_matches(['[', ']']).parse() {
        return of(Some(address), 80);
    }
    let (address, port) = typed.rsplit_once(':')?;
    let port = port.parse().ok()?;
    match address {
        "*" | "_default_" => of(None, port),
        address => of(Some(address.trim_matches(['[', ']']).parse().ok()?), port),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PORTS: [u16; 2] = [80, 443];

    fn ip(text: &str) -> IpAddr {
        text.parse().unwrap()
    }

    fn found(server: WebServer, text: &str, listen: &[IpAddr]) -> Option<(usize, ClashKind)> {
        clash(server, text, listen, &[ip("192.0.2.10"), ip("2001:db8::10")], &PORTS).map(|one| (one.line, one.kind))
    }

    #[test]
    fn an_address_of_this_host_takes_visitors_from_blocks_at_all_addresses() {
        let nginx = "http {\n server { listen 80 default_server; server_name _; location / { return 200; } }\n\
                     server {\n  server_name a.example;\n  listen [2001:db8::10]:443 ssl;\n }\n}\n";
        assert_eq!(found(WebServer::Nginx, nginx, &[]), Some((5, ClashKind::TakesOurs(ip("2001:db8::10")))));
        assert_eq!(found(WebServer::Nginx, nginx, &[ip("192.0.2.10")]), None, "ours stands beside it");
        let apache =
            "<VirtualHost *:80>\n</VirtualHost>\n<VirtualHost 192.0.2.10:80>\nServerName a.example\n</VirtualHost>\n";
        assert_eq!(found(WebServer::Apache, apache, &[]), Some((3, ClashKind::TakesOurs(ip("192.0.2.10")))));
        for harmless in
            ["server { listen 192.0.2.99:80; }", "server { listen 192.0.2.10:8080; }", "listen 192.0.2.10:80;"]
        {
            assert_eq!(found(WebServer::Nginx, harmless, &[]), None, "{harmless}");
        }
    }

    #[test]
    fn a_block_at_all_addresses_loses_its_names_to_ours_unless_it_has_none() {
        let ours = [ip("192.0.2.10")];
        let nginx = "server { listen 80; server_name\n  a.example; }";
        assert_eq!(found(WebServer::Nginx, nginx, &ours), Some((1, ClashKind::LosesTheirs(ours[0]))));
        assert_eq!(found(WebServer::Nginx, nginx, &[]), None);
        assert_eq!(found(WebServer::Nginx, "server { listen 80 default_server; server_name _; }", &ours), None);
        let silent = "http {\n server {\n  server_name a.example;\n  location / { return 200; }\n }\n}\n";
        assert_eq!(found(WebServer::Nginx, silent, &ours), Some((2, ClashKind::LosesTheirs(ours[0]))));
        let socket = "server { listen unix:/run/a.sock; server_name a.example; }";
        assert_eq!(found(WebServer::Nginx, socket, &ours), None);
        let apache = "<VirtualHost *:443>\n  ServerAlias www.a.example\n</VirtualHost>\n";
        assert_eq!(found(WebServer::Apache, apache, &ours), Some((1, ClashKind::LosesTheirs(ours[0]))));
        let debian =
            "<VirtualHost *:80>\n  # ServerName www.example.com\n  ServerAdmin webmaster@localhost\n</VirtualHost>\n";
        assert_eq!(found(WebServer::Apache, debian, &ours), None, "the default site of a fresh machine");
    }
}
