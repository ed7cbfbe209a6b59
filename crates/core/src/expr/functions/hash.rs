//! Digests.

use sha2::{Digest as _, Sha256};

use crate::expr::column::{Column, map_text};

const HEX: &[u8; 16] = b"0123456789abcdef";

/// SHA-256 as hexadecimal digits.
pub(super) fn sha256(columns: &[Column], rows: usize) -> Column {
    let column = &columns[0];
    let text = column.text();
    map_text(&[column], rows, |row, out| {
        let digest = Sha256::digest(text.value(column.index(row)).as_bytes());
        for byte in digest {
            out.push(HEX[usize::from(byte >> 4)]);
            out.push(HEX[usize::from(byte & 15)]);
        }
        Ok(())
    })
}
