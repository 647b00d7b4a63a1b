//! The miniature internet, put together: who has which address, and the settings of a harbor that lives in it.

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use tokio::net::TcpListener;
use tokio::runtime::Runtime;

use crate::ca::{Authority, CaService};
use crate::control::{listen, take_orders};
use crate::dns::resolver::{self, Resolver};
use crate::dns::server::{self, Zones};
use crate::dns::zone_data::ZoneData;
use crate::family::Family;
use crate::passing::serve_tides;
use crate::registrar::Registrar;
use crate::web::{WebServer, serve_old_host};

#[derive(Debug)]
pub struct WorldError(pub String);

impl std::fmt::Display for WorldError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "the miniature internet could not be started: {}", self.0)
    }
}

impl std::error::Error for WorldError {}

fn failed(error: impl ToString) -> WorldError {
    WorldError(error.to_string())
}

/// The addresses of the cast, all in one /24 of loopback, and the ports that all of them use.
#[derive(Debug, Clone)]
pub struct Cast {
    family: Family,
    prefix: [u8; 3],
    nameservers: [IpAddr; 2],
    pub dns_port: u16,
    pub http_port: u16,
    pub https_port: u16,
}

impl Cast {
    fn address(&self, last: u8) -> IpAddr {
        self.family.address(self.prefix, last)
    }

    pub fn family(&self) -> Family {
        self.family
    }

    /// An address in the same network that nobody of the cast has.
    pub fn spare(&self, last: u8) -> IpAddr {
        self.address(last)
    }

    pub fn root(&self) -> IpAddr {
        self.address(1)
    }

    pub fn registry(&self) -> IpAddr {
        self.address(2)
    }

    pub fn old_nameserver(&self) -> IpAddr {
        self.address(3)
    }

    /// The two nameservers of the provider.
    pub fn nameservers(&self) -> [IpAddr; 2] {
        self.nameservers
    }

    pub fn resolver(&self) -> IpAddr {
        self.address(6)
    }

    pub fn ca(&self) -> IpAddr {
        self.address(7)
    }

    pub fn registrar(&self) -> IpAddr {
        self.address(8)
    }

    pub fn old_web(&self) -> IpAddr {
        self.address(9)
    }

    /// The web server of the provider.
    pub fn web(&self) -> IpAddr {
        self.address(10)
    }

    /// A zone of the scenario with the addresses filled in.
    fn fill(&self, text: &str) -> String {
        let [ns1, ns2] = self.nameservers();
        let places = [
            ("{root}", self.root()),
            ("{registry}", self.registry()),
            ("{oldns}", self.old_nameserver()),
            ("{oldweb}", self.old_web()),
            ("{ns1}", ns1),
            ("{ns2}", ns2),
        ];
        places.iter().fold(text.to_string(), |text, (place, address)| self.family.fill(&text, place, *address))
    }
}

/// A running miniature internet; it ends when dropped.
pub struct World {
    pub cast: Cast,
    pub registrar: Registrar,
    pub registrar_page: SocketAddr,
    folder: PathBuf,
    provider: Option<Provider>,
    runtime: Option<Runtime>,
}

/// The provider's side: what a test may leave out to run real servers in its place.
struct Provider {
    ca: CaService,
    ca_directory: String,
    web_control: SocketAddr,
    dns_control: SocketAddr,
    program: SocketAddr,
}

/// The customers who are still with the old host.
const OLD_CUSTOMERS: [&str; 3] = ["crumbandtide.example", "lanternchoir.example", "gullrock.example"];

impl World {
    /// The requests that the stand-in CA has answered so far, and how many of them asked for what was not ready yet.
    pub fn ca_requests(&self) -> (usize, usize) {
        self.provider.as_ref().map_or((0, 0), |provider| provider.ca.requests())
    }

    /// The certificates that the stand-in CA counts as revoked.
    pub fn revoked(&self) -> usize {
        self.provider.as_ref().map_or(0, |provider| provider.ca.revoked())
    }

    /// The stand-in CA revokes everything that it has issued so far.
    pub fn revoke_all(&self) {
        if let Some(provider) = &self.provider {
            provider.ca.revoke_all();
        }
    }

    /// The stand-in CA answers so many requests more, and is out of order then; `None` mends it.
    pub fn fail_ca_after(&self, requests: Option<usize>) {
        if let Some(provider) = &self.provider {
            provider.ca.fail_after(requests);
        }
    }

    /// The stand-in CA does what the request after so many more asks for, and its answer gets lost.
    pub fn lose_answer_after(&self, requests: usize) {
        if let Some(provider) = &self.provider {
            provider.ca.lose_after(requests);
        }
    }

    /// The stand-in CA answers every request that there were too many, with this in `Retry-After`; `None` ends it.
    pub fn limit_ca(&self, retry_after: Option<&str>) {
        if let Some(provider) = &self.provider {
            provider.ca.limit(retry_after);
        }
    }

    /// The stand-in CA offers no profiles any more.
    pub fn withdraw_profiles(&self) {
        if let Some(provider) = &self.provider {
            provider.ca.withdraw_profiles();
        }
    }

    /// The stand-in CA names this OCSP responder, which somebody else runs, in its certificates from now on. Gives its issuing
    /// certificate and the key of that, PEM.
    ///
    /// # Panics
    /// In a world that was started around real servers.
    pub fn appoint_responder(&self, url: &str) -> (String, String) {
        self.provider.as_ref().expect("a whole world").ca.appoint_responder(url)
    }

    /// The orders that the stand-in CA has taken so far.
    pub fn orders(&self) -> usize {
        self.provider.as_ref().map_or(0, |provider| provider.ca.orders())
    }

    /// Starts everything. The harbor is expected at `folder`/harbor; the CA's root certificate is written beside it.
    pub fn start(folder: &Path) -> Result<Self, WorldError> {
        Self::start_with(folder, true)
    }

    /// Only the world around a provider: its nameservers, web server and CA are left to real servers, at the
    /// addresses of the cast. Both nameservers are 127.0.0.1 then: BIND listens only where an interface has its address.
    pub fn start_around(folder: &Path) -> Result<Self, WorldError> {
        Self::start_with(folder, false)
    }

    /// Tries again with other ports: a query of another world that is under way may hold the port of a nameserver, as it
    /// leaves from a port that the system chose, on all addresses.
    fn start_with(folder: &Path, provider: bool) -> Result<Self, WorldError> {
        let mut last = WorldError("no free ports".into());
        for _ in 0..20 {
            // A runtime for each attempt: what a failed one serves ends with it.
            let runtime =
                tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().map_err(failed)?;
            match runtime.block_on(Self::build(folder, provider)) {
                Ok(mut world) => {
                    world.runtime = Some(runtime);
                    return Ok(world);
                }
                Err(error) => last = error,
            }
        }
        Err(last)
    }

    async fn build(folder: &Path, with_provider: bool) -> Result<Self, WorldError> {
        let (cast, http, https) = find_room(with_provider).await?;
        let registrar = serve_names(&cast).await?;
        for customer in OLD_CUSTOMERS {
            registrar.set_nameservers(customer, &["ns1.oldquay.example"]).map_err(failed)?;
        }
        for (domain, names) in [
            ("saltmarsh.example", &["ns1.saltmarsh.example", "ns2.saltmarsh.example"][..]),
            ("oldquay.example", &["ns1.oldquay.example"]),
        ] {
            registrar.set_nameservers(domain, names).map_err(failed)?;
        }
        let resolver = Arc::new(Resolver::new(SocketAddr::new(cast.root(), cast.dns_port)));
        let clients = SocketAddr::new(cast.resolver(), cast.dns_port);
        resolver::serve(clients, Arc::clone(&resolver)).await.map_err(failed)?;
        let old = TcpListener::bind(SocketAddr::new(cast.old_web(), cast.http_port)).await.map_err(failed)?;
        tokio::spawn(serve_old_host(old));
        let provider = match with_provider {
            true => Some(serve_provider(&cast, folder, resolver, http, https).await?),
            false => None,
        };

        let (listener, registrar_page) = listen(cast.registrar()).await.map_err(failed)?;
        tokio::spawn(registrar.clone().serve(listener));
        Ok(Self { cast, registrar, registrar_page, folder: folder.to_path_buf(), provider, runtime: None })
    }

    /// Where a small program listens that sites can pass visitors on to.
    ///
    /// # Panics
    /// In a world that was started around real servers.
    pub fn program(&self) -> SocketAddr {
        self.provider.as_ref().expect("a whole world").program
    }

    /// The `harbor.toml` of a harbor that lives in this internet, with the stand-ins of its provider.
    ///
    /// # Panics
    /// In a world that was started around real servers: those need settings of their own.
    pub fn settings(&self) -> String {
        let Provider { ca_directory, web_control, dns_control, .. } = self.provider.as_ref().expect("a whole world");
        let cast = &self.cast;
        let root = self.folder.join("ca-root.pem");
        let home = self.folder.join("homes/{account}");
        let [ns1, _] = cast.nameservers();
        format!(
            r#"[host]
addresses = ["{web}"]
nameservers = ["ns1.saltmarsh.example.", "ns2.saltmarsh.example."]
hostmaster = "hostmaster.saltmarsh.example."

[sites]
home = "{home}"

[web]
server = "stand-in"
listen = ["{web}"]
control = "{web_control}"

[dns]
server = "stand-in"
control = "{dns_control}"
address = "{dns_server}"

[ca]
directory = "{directory}"
contact = "hostmaster@saltmarsh.example"
terms-accepted = true
trust-root = "{root}"

[internet]
root-servers = ["{root_server}"]
resolvers = ["{resolver}"]
dns-port = {dns_port}
http-port = {http_port}
https-port = {https_port}
trust-roots = ["{root}"]
"#,
            web = cast.web(),
            home = home.display(),
            directory = ca_directory,
            root = root.display(),
            root_server = cast.root(),
            dns_server = SocketAddr::new(ns1, cast.dns_port),
            resolver = cast.resolver(),
            dns_port = cast.dns_port,
            http_port = cast.http_port,
            https_port = cast.https_port,
        )
    }
}

impl Drop for World {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// The provider's nameservers, web server and CA.
async fn serve_provider(
    cast: &Cast,
    folder: &Path,
    resolver: Arc<Resolver>,
    http: TcpListener,
    https: TcpListener,
) -> Result<Provider, WorldError> {
    let harbor = folder.join("harbor");
    let dns_control = serve_dns_host(cast, &harbor.join("zones")).await?;
    let web = WebServer::new(&harbor.join("servers/plain"));
    let (orders, web_control) = listen(cast.web()).await.map_err(failed)?;
    let obeying = web.clone();
    tokio::spawn(take_orders(orders, Arc::new(move |order: &str| obeying.obey(order))));
    tokio::spawn(web.clone().serve_http(http));
    tokio::spawn(web.serve_https(https));

    let (listener, address) = listen(cast.ca()).await.map_err(failed)?;
    let authority = Authority::new(cast.ca()).map_err(failed)?;
    std::fs::write(folder.join("ca-root.pem"), &authority.root_pem).map_err(failed)?;
    let base = format!("https://{address}");
    let ca = CaService::new(base.clone(), cast.http_port, authority, resolver);
    tokio::spawn(ca.clone().serve(listener));
    let tides = TcpListener::bind(SocketAddr::new(cast.web(), 0)).await.map_err(failed)?;
    let program = tides.local_addr().map_err(failed)?;
    tokio::spawn(serve_tides(tides));
    Ok(Provider { ca, ca_directory: format!("{base}/directory"), web_control, dns_control, program })
}

/// Finds a /24 of loopback and ports that are free there; gives the provider's web listeners with them.
async fn find_room(with_provider: bool) -> Result<(Cast, TcpListener, TcpListener), WorldError> {
    let mut last = String::from("no free addresses");
    for attempt in 0..40_u32 {
        let seed = std::process::id().wrapping_mul(31).wrapping_add(attempt.wrapping_mul(7919));
        // Three digits each: what is printed of one world is as wide as of another.
        let prefix = [127, 128 + (seed >> 8) as u8 % 100, 100 + seed as u8 % 150];
        let [a, b, c] = prefix;
        let family = Family::of_this_process();
        // The second one in another network, as it should be.
        let (first, second) = (family.address(prefix, 4), family.address([a, b ^ 1, c], 5));
        let nameservers = if with_provider { [first, second] } else { [family.of_interface(); 2] };
        let mut cast = Cast { family, prefix, nameservers, dns_port: 0, http_port: 0, https_port: 0 };
        // The port of the nameservers is the one that all name servers and the resolver use.
        let probe = async {
            let dns = TcpListener::bind(SocketAddr::new(cast.nameservers()[0], 0)).await?;
            let http = TcpListener::bind(SocketAddr::new(cast.web(), 0)).await?;
            let https = TcpListener::bind(SocketAddr::new(cast.web(), 0)).await?;
            let ports = (dns.local_addr()?.port(), http.local_addr()?.port(), https.local_addr()?.port());
            std::io::Result::Ok((http, https, ports))
        };
        match probe.await {
            Ok((http, https, (dns_port, http_port, https_port))) => {
                cast.dns_port = dns_port;
                cast.http_port = http_port;
                cast.https_port = https_port;
                return Ok((cast, http, https));
            }
            Err(error) => last = error.to_string(),
        }
    }
    Err(WorldError(last))
}

/// The root, the registry and the old host's nameserver.
async fn serve_names(cast: &Cast) -> Result<Registrar, WorldError> {
    let at = |address: IpAddr| SocketAddr::new(address, cast.dns_port);
    let read = |origin: &str, text: &str| ZoneData::read(origin, &cast.fill(text)).map_err(failed);
    let root = read(".", include_str!("../scenarios/coast/root.zone"))?;
    server::serve(at(cast.root()), zones(vec![root])).await.map_err(failed)?;

    let base = cast.fill(include_str!("../scenarios/coast/registry.zone"));
    let registry = zones(vec![ZoneData::read("example.", &base).map_err(failed)?]);
    server::serve(at(cast.registry()), Arc::clone(&registry)).await.map_err(failed)?;

    let mut old = vec![read("oldquay.example.", include_str!("../scenarios/coast/oldquay.zone"))?];
    for customer in OLD_CUSTOMERS {
        let mut zone = include_str!("../scenarios/coast/old-customer.zone").to_string();
        if customer == "crumbandtide.example" {
            zone.push_str(include_str!("../scenarios/coast/bakery-mail.zone"));
        }
        old.push(read(&format!("{customer}."), &zone)?);
    }
    server::serve(at(cast.old_nameserver()), zones(old)).await.map_err(failed)?;

    let [ns1, ns2] = cast.nameservers();
    let hosts = [
        ("ns1.saltmarsh.example", ns1),
        ("ns2.saltmarsh.example", ns2),
        ("ns1.oldquay.example", cast.old_nameserver()),
    ];
    let hosts: BTreeMap<String, String> =
        hosts.iter().map(|(name, address)| (name.to_string(), address.to_string())).collect();
    Ok(Registrar::new(base, registry, hosts))
}

/// The provider's two nameservers: its own zone, and those of the harbor once told to reload.
async fn serve_dns_host(cast: &Cast, folder: &Path) -> Result<SocketAddr, WorldError> {
    let own = ZoneData::read("saltmarsh.example.", &cast.fill(include_str!("../scenarios/coast/saltmarsh.zone")))
        .map_err(failed)?;
    let held = zones(vec![own.clone()]);
    for address in cast.nameservers() {
        server::serve(SocketAddr::new(address, cast.dns_port), Arc::clone(&held)).await.map_err(failed)?;
    }
    let (orders, control) = listen(cast.nameservers()[0]).await.map_err(failed)?;
    let folder = folder.to_path_buf();
    let obey = move |order: &str| {
        if order != "reload" {
            return Err(format!("unknown order {order}"));
        }
        let mut read = vec![own.clone()];
        for entry in std::fs::read_dir(&folder).map_err(|error| error.to_string())?.flatten() {
            let path = entry.path();
            let Some(zone) = path.file_name().and_then(|n| n.to_str()).and_then(|n| n.strip_suffix(".zone")) else {
                continue;
            };
            let text = std::fs::read_to_string(&path).map_err(|error| error.to_string())?;
            // In the name of a file an underscore stands for the slash of RFC 2317.
            let data = ZoneData::read(&format!("{}.", zone.replace('_', "/")), &text);
            read.push(data.map_err(|error| format!("{}: {error}", path.display()))?);
        }
        *held.write().map_err(|_| "the DNS host is out of order")? = read;
        Ok(())
    };
    tokio::spawn(take_orders(orders, Arc::new(obey)));
    Ok(control)
}

fn zones(zones: Vec<ZoneData>) -> Zones {
    Arc::new(RwLock::new(zones))
}
