//! Links the program with functions of ours in the place of some of librdkafka's: `sluice-connect` has them, and says why.

/// Those whose place is taken.
const REPLACED: &[&str] = &[
    "rd_kafka_metadata_update_op",
    "rd_kafka_broker_fetch_toppars",
    "rd_gz_decompress",
    "rd_kafka_snappy_uncompressed_length",
    "rd_kafka_snappy_java_uncompress",
    "rd_kafka_lz4_decompress",
    "rd_kafka_zstd_decompress",
];

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    if std::env::var("CARGO_CFG_TARGET_OS").as_deref() == Ok("linux") {
        for name in REPLACED {
            println!("cargo:rustc-link-arg-bins=-Wl,--wrap={name}");
        }
    }
}
