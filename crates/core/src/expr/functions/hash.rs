//! Digests of a text's bytes, in hexadecimal digits.

use md5::Md5;
use sha2::{Digest, Sha224, Sha256, Sha384, Sha512};

use super::{Arguments, Function};
use crate::expr::column::{Column, map_text};

const HEX: &[u8; 16] = b"0123456789abcdef";

/// Digests.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "md5",
        signature: "md5(text) → text",
        about: "The MD5 digest, 32 hexadecimal digits. It protects nothing: texts with one digest can be made.",
        example: "md5('Ada')",
        gives: "1a382809b7c03f686e12dd15677c5497",
        compute: digest::<Md5>,
        ..Function::PLAIN
    },
    Function {
        name: "sha224",
        signature: "sha224(text) → text",
        about: "The SHA-224 digest, 56 hexadecimal digits.",
        example: "sha224('Ada')",
        gives: "68fadbdede67eaeadf70b7c7cedfddcdb0e626d7c7623dd87df9e053",
        compute: digest::<Sha224>,
        ..Function::PLAIN
    },
    Function {
        name: "sha256",
        signature: "sha256(text) → text",
        about: "The SHA-256 digest of the text's bytes, as 64 hexadecimal digits.",
        example: "sha256('Ada')",
        gives: "99a563ab2f6e21e96998f9fddd2a2bab82b70ac019579502b8d7fc0032ff62bb",
        compute: digest::<Sha256>,
        ..Function::PLAIN
    },
    Function {
        name: "sha384",
        signature: "sha384(text) → text",
        about: "The SHA-384 digest, 96 hexadecimal digits.",
        example: "sha384('Ada')",
        gives: "49f7c47008167674e4ae2fabcb4a360cca60042eaabb8fa0954272ae42742b0bf75094e4b5bbd15ce38bbb22c8844ea7",
        compute: digest::<Sha384>,
        ..Function::PLAIN
    },
    Function {
        name: "sha512",
        signature: "sha512(text) → text",
        about: "The SHA-512 digest, 128 hexadecimal digits.",
        example: "sha512('Ada')",
        gives: "1985df959f44963c5e1d9af8ae6e16d4d82c9751b51a443245491c15da60c6006164e507d3787eb04b583d3dca05ec430de8a1f6076e8c841be98f27baa8ec44",
        compute: digest::<Sha512>,
        ..Function::PLAIN
    },
];

fn digest<D: Digest>(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        for byte in D::digest(a.text(0, row).as_bytes()) {
            out.push(HEX[usize::from(byte >> 4)]);
            out.push(HEX[usize::from(byte & 15)]);
        }
        Ok(())
    })
}
