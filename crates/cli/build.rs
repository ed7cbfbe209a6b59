//! Links the program with our function in the place of one of librdkafka's: `sluice-connect` has it, and says why.

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    if std::env::var("CARGO_CFG_TARGET_OS").as_deref() == Ok("linux") {
        println!("cargo:rustc-link-arg-bins=-Wl,--wrap=rd_kafka_metadata_update_op");
    }
}
