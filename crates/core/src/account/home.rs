//! Which folder may be the home of an account: one that no program of the system and no other customer relies on.

use std::path::{Path, PathBuf};

use super::AccountName;
use crate::harbor::{PathError, check_path};

/// Folders whose content is the system's own, with everything below.
const OF_SYSTEM: [&str; 22] = [
    "/bin",
    "/boot",
    "/dev",
    "/etc",
    "/lib",
    "/lib32",
    "/lib64",
    "/libx32",
    "/proc",
    "/root",
    "/run",
    "/sbin",
    "/sys",
    "/usr/bin",
    "/usr/lib",
    "/usr/sbin",
    "/usr/share",
    "/var/cache",
    "/var/lib",
    "/var/log",
    "/var/run",
    "/var/spool",
];

/// Folders that homes may lie in, and that are none themselves.
const ONLY_ABOVE: [&str; 10] = ["/", "/home", "/media", "/mnt", "/opt", "/srv", "/tmp", "/usr", "/usr/local", "/var"];

/// What is known of a wanted home.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HomeSeen {
    /// Where it lies behind all links; as it was given where it does not exist.
    pub real: PathBuf,
    pub is_there: bool,
    /// The harbor's own folder, behind all links.
    pub harbor: PathBuf,
    /// An account whose home is the same, or above or below.
    pub overlaps: Option<(AccountName, PathBuf)>,
}

/// Why a folder is no home.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HomeRefusal {
    Path(PathError),
    OfSystem(PathBuf),
    InHarbor(PathBuf),
    OfAccount {
        home: PathBuf,
        account: AccountName,
        of_account: PathBuf,
    },
    /// It exists, and that was not asked for.
    IsThere(PathBuf),
}

/// Refuses a home that would hand somebody else's files to a customer, whether by its own path or behind links.
pub fn refuse_home(home: &Path, seen: &HomeSeen) -> Result<(), HomeRefusal> {
    check_path(home).map_err(HomeRefusal::Path)?;
    for place in [home, &seen.real] {
        if is_of_system(place) {
            return Err(HomeRefusal::OfSystem(place.to_path_buf()));
        }
        if place.starts_with(&seen.harbor) || seen.harbor.starts_with(place) {
            return Err(HomeRefusal::InHarbor(place.to_path_buf()));
        }
    }
    match seen.overlaps.clone() {
        Some((account, of_account)) => Err(HomeRefusal::OfAccount { home: home.to_path_buf(), account, of_account }),
        None => Ok(()),
    }
}

fn is_of_system(home: &Path) -> bool {
    // `/home/.` and `/home/` are `/home`.
    let home: PathBuf = home.components().filter(|part| part.as_os_str() != ".").collect();
    ONLY_ABOVE.iter().any(|folder| home == Path::new(folder)) || OF_SYSTEM.iter().any(|folder| home.starts_with(folder))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refused(home: &str, seen: HomeSeen) -> Option<HomeRefusal> {
        refuse_home(Path::new(home), &seen).err()
    }

    fn seen(real: &str) -> HomeSeen {
        HomeSeen { real: real.into(), harbor: "/var/www/harbor".into(), ..HomeSeen::default() }
    }

    #[test]
    fn what_the_system_lives_on_is_nobodys_home() {
        for home in [
            "/",
            "/home",
            "/home/.",
            "/etc",
            "/etc/nginx",
            "/root",
            "/usr",
            "/usr/lib/x",
            "/var/lib/bakery",
            "/dev/shm/x",
        ] {
            assert_eq!(refused(home, seen(home)), Some(HomeRefusal::OfSystem(home.into())), "{home}");
        }
        for home in
            ["/home/bakery", "/srv/customers/bakery", "/var/www/bakery", "/usr/home/bakery", "/bakery", "/libraries/x"]
        {
            assert_eq!(refused(home, seen(home)), None, "{home}");
        }
        assert!(matches!(refused("bakery", seen("bakery")), Some(HomeRefusal::Path(_))));
        assert_eq!(
            refused("/home/bakery", seen("/etc/x")),
            Some(HomeRefusal::OfSystem("/etc/x".into())),
            "behind a link"
        );
    }

    #[test]
    fn the_harbor_and_the_homes_of_others_are_nobodys_home_either() {
        for home in ["/var/www/harbor", "/var/www/harbor/zones", "/var/www"] {
            assert_eq!(refused(home, seen(home)), Some(HomeRefusal::InHarbor(home.into())), "{home}");
        }
        assert_eq!(refused("/var/www/harbor2", seen("/var/www/harbor2")), None);
        let of = (AccountName::parse("choir").unwrap(), PathBuf::from("/home/choir"));
        let below = HomeSeen { overlaps: Some(of), ..seen("/home/choir/bakery") };
        assert!(matches!(refused("/home/choir/bakery", below), Some(HomeRefusal::OfAccount { .. })));
    }
}
