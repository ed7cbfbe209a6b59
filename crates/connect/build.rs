//! Puts functions of ours in the place of some of librdkafka's, and sets how OpenSSL ends: `native/` says why.

fn main() {
    println!("cargo:rerun-if-changed=native");
    if std::env::var("CARGO_CFG_TARGET_OS").as_deref() != Ok("linux") {
        return;
    }
    let mut build = cc::Build::new();
    build.files(["native/leaders.c", "native/ending.c", "native/unpacking.c"]);
    // Where zlib is built with us; otherwise the system has it.
    if let Some(include) = std::env::var_os("DEP_Z_INCLUDE") {
        build.includes(std::env::split_paths(&include));
    }
    build.cargo_metadata(false).compile("native");
    let out = std::env::var("OUT_DIR").unwrap_or_default();
    println!("cargo:rustc-link-search=native={out}");
    println!("cargo:rustc-link-lib=static:+whole-archive=native");
    // The program that is linked asks for the replacements, in the build script of its own crate.
}
