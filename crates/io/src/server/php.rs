//! The pool managers of PHP: their test, their reload, and waiting until a pool listens.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use brightharbor_core::account::AccountName;
use brightharbor_core::harbor::Settings;
use tokio::net::UnixStream;

use super::{ServerError, run_bounded};

/// A manager that reloads starts its workers anew.
const PATIENCE: Duration = Duration::from_secs(10);

/// Runs the test of each manager whose pools have changed.
pub async fn test_pools(settings: &Settings, pools: &[(String, AccountName)]) -> Result<(), ServerError> {
    for version in versions(pools) {
        if let Some(php) = settings.php.get(version) {
            run_bounded(&php.test, &[]).await?;
        }
    }
    Ok(())
}

/// Makes each manager read its pools anew.
pub async fn reload_pools(settings: &Settings, pools: &[(String, AccountName)]) -> Result<(), ServerError> {
    for version in versions(pools) {
        if let Some(php) = settings.php.get(version) {
            run_bounded(&php.reload, &[]).await?;
        }
    }
    Ok(())
}

/// Waits until the pools listen: before the web server passes visitors on to them.
pub async fn await_pools(settings: &Settings, pools: &[(String, AccountName)]) -> Result<(), ServerError> {
    let deadline = Instant::now() + PATIENCE;
    for (version, account) in pools {
        let Some(php) = settings.php.get(version) else { continue };
        let socket: PathBuf = php.socket(version, account);
        while let Err(error) = UnixStream::connect(&socket).await {
            if Instant::now() > deadline {
                return Err(ServerError::PoolSilent { version: version.clone(), socket, reason: error.to_string() });
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    Ok(())
}

fn versions(pools: &[(String, AccountName)]) -> BTreeSet<&str> {
    pools.iter().map(|(version, _)| version.as_str()).collect()
}
