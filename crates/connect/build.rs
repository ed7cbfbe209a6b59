//! Puts a function of ours in the place of one of librdkafka's: `native/leaders.c` says why.

fn main() {
    println!("cargo:rerun-if-changed=native/leaders.c");
    if std::env::var("CARGO_CFG_TARGET_OS").as_deref() != Ok("linux") {
        return;
    }
    cc::Build::new().file("native/leaders.c").cargo_metadata(false).compile("leaders");
    let out = std::env::var("OUT_DIR").unwrap_or_default();
    println!("cargo:rustc-link-search=native={out}");
    println!("cargo:rustc-link-lib=static:+whole-archive=leaders");
    // The program that is linked asks for the replacement, in the build script of its own crate.
}
