//! Digests of a text's bytes, in hexadecimal digits.

use hmac::{Hmac, KeyInit as _, Mac as _};
use md5::Md5;
use sha2::{Digest, Sha224, Sha256, Sha384, Sha512};

use super::{Arguments, Function, Parameter, Prepared};
use crate::expr::column::{Column, map_text};
use crate::limit::Limit;
use crate::values::bytes::write_digits;

/// Digests.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "hmac_sha256",
        signature: "hmac_sha256(text, secret) → text",
        about: "The HMAC of the text with a secret of sluice.toml, by SHA-256 (RFC 2104), as 64 hexadecimal digits: a pseudonym \
                that stays the same, and that nobody can find out by trying without the secret.",
        example: "hmac_sha256('TN-0042', 'vessels')",
        gives: "4e12b0032ba81888a2a02fb4cb93225e6db41f5d768f6c69ed4276704aff1584",
        parameters: &[Parameter::Text, Parameter::Secret],
        compute: hmac_sha256,
        ..Function::PLAIN
    },
    Function {
        name: "md5",
        signature: "md5(text) → text",
        about: "The MD5 digest, 32 hexadecimal digits. It protects nothing: texts with one digest can be made.",
        example: "md5('Ada')",
        gives: "1a382809b7c03f686e12dd15677c5497",
        compute: |a| digest(a, DigestOf::Md5),
        ..Function::PLAIN
    },
    Function {
        name: "name_uuid",
        signature: "name_uuid(namespace, name) → uuid",
        about: "The UUID of a name within a namespace, which is a UUID too: the same name always gives the same one (RFC 9562, \
                version 5).",
        example: "name_uuid('6ba7b810-9dad-11d1-80b4-00c04fd430c8', 'TN-0042')",
        gives: "006cb42c-690f-59fd-8328-1ed3fc6459f5",
        parameters: &[Parameter::Text, Parameter::Text],
        limit: |_| Some(Limit::Uuid),
        compute: name_uuid,
        ..Function::PLAIN
    },
    Function {
        name: "sha224",
        signature: "sha224(text) → text",
        about: "The SHA-224 digest, 56 hexadecimal digits.",
        example: "sha224('Ada')",
        gives: "68fadbdede67eaeadf70b7c7cedfddcdb0e626d7c7623dd87df9e053",
        compute: |a| digest(a, DigestOf::Sha224),
        ..Function::PLAIN
    },
    Function {
        name: "sha256",
        signature: "sha256(text) → text",
        about: "The SHA-256 digest of the text's bytes, as 64 hexadecimal digits.",
        example: "sha256('Ada')",
        gives: "99a563ab2f6e21e96998f9fddd2a2bab82b70ac019579502b8d7fc0032ff62bb",
        compute: |a| digest(a, DigestOf::Sha256),
        ..Function::PLAIN
    },
    Function {
        name: "sha384",
        signature: "sha384(text) → text",
        about: "The SHA-384 digest, 96 hexadecimal digits.",
        example: "sha384('Ada')",
        gives: "49f7c47008167674e4ae2fabcb4a360cca60042eaabb8fa0954272ae42742b0bf75094e4b5bbd15ce38bbb22c8844ea7",
        compute: |a| digest(a, DigestOf::Sha384),
        ..Function::PLAIN
    },
    Function {
        name: "sha512",
        signature: "sha512(text) → text",
        about: "The SHA-512 digest, 128 hexadecimal digits.",
        example: "sha512('Ada')",
        gives: "1985df959f44963c5e1d9af8ae6e16d4d82c9751b51a443245491c15da60c6006164e507d3787eb04b583d3dca05ec430de8a1f6076e8c841be98f27baa8ec44",
        compute: |a| digest(a, DigestOf::Sha512),
        ..Function::PLAIN
    },
];

/// The digests that there are.
#[derive(Clone, Copy)]
pub(super) enum DigestOf {
    Md5,
    Sha224,
    Sha256,
    Sha384,
    Sha512,
}

/// Appends a digest's digits.
pub(super) fn digest_of(of: DigestOf, bytes: &[u8], out: &mut Vec<u8>) {
    match of {
        DigestOf::Md5 => write_digits(&Md5::digest(bytes), out),
        DigestOf::Sha224 => write_digits(&Sha224::digest(bytes), out),
        DigestOf::Sha256 => write_digits(&Sha256::digest(bytes), out),
        DigestOf::Sha384 => write_digits(&Sha384::digest(bytes), out),
        DigestOf::Sha512 => write_digits(&Sha512::digest(bytes), out),
    }
}

fn digest(a: &Arguments<'_>, of: DigestOf) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        digest_of(of, a.text(0, row).as_bytes(), out);
        Ok(())
    })
}

/// Gives the bytes of an argument in a row, by way of a buffer.
type ReadBytes = for<'b> fn(&'b Arguments<'_>, usize, usize, &'b mut Vec<u8>) -> Result<&'b [u8], String>;

fn hmac_sha256(a: &Arguments<'_>) -> Column {
    hmac_of(a, |a, argument, row, _| Ok(a.text(argument, row).as_bytes()))
}

/// The HMAC of bytes with a secret.
pub(super) fn hmac_of(a: &Arguments<'_>, read: ReadBytes) -> Column {
    let secret = match a.prepared {
        Prepared::Secret(secret) => secret.text(),
        _ => None,
    };
    // The key's own part is computed once.
    let keyed = secret.and_then(|secret| Hmac::<Sha256>::new_from_slice(secret.as_bytes()).ok());
    let mut buffer = Vec::new();
    map_text(&a.all(), a.rows, |row, out| {
        let keyed = keyed.clone().ok_or("the secret has not been read")?;
        let bytes = read(a, 0, row, &mut buffer)?;
        write_digits(&keyed.chain_update(bytes).finalize().into_bytes(), out);
        Ok(())
    })
}

fn name_uuid(a: &Arguments<'_>) -> Column {
    let mut known: Option<(&str, uuid::Uuid)> = None;
    map_text(&a.all(), a.rows, |row, out| {
        let (namespace, name) = (a.text(0, row), a.text(1, row));
        let namespace = match known {
            Some((text, uuid)) if text == namespace => uuid,
            _ => {
                let cut = || namespace.chars().take(80).collect::<String>();
                let uuid = uuid::Uuid::try_parse(namespace).map_err(|_| format!("`{}` is no UUID", cut()))?;
                known = Some((namespace, uuid));
                uuid
            }
        };
        let mut buffer = uuid::Uuid::encode_buffer();
        let uuid = uuid::Uuid::new_v5(&namespace, name.as_bytes());
        out.extend_from_slice(uuid.hyphenated().encode_lower(&mut buffer).as_bytes());
        Ok(())
    })
}
