//! Links debug builds at a fixed address. Their relocations alone take several milliseconds at each start, and the tests
//! start the binary a thousand times; release builds stay position-independent.

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    let target = std::env::var("CARGO_CFG_TARGET_OS").unwrap_or_default();
    if std::env::var("PROFILE").as_deref() == Ok("debug") && target == "linux" {
        println!("cargo::rustc-link-arg-bins=-no-pie");
    }
}
