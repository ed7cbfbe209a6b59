//! Messages of a server with damaged bytes: none makes the reader fail, and none makes it wait or allocate for ever.

use bytes::Bytes;

use super::pgoutput::{self, LogMessage};
use super::wire::Wire;
use crate::databases::wait;
use crate::mutate::attack;

fn good() -> Vec<Vec<u8>> {
    let mut relation = b"R\0\0\0\x07public\0permit\0d\0\x02".to_vec();
    relation.extend(b"\x01id\0\0\0\0\x17\xff\xff\xff\xff\0holder\0\0\0\0\x19\xff\xff\xff\xff");
    let tuple = b"\0\x03t\0\0\0\x03P-1nu";
    vec![
        b"B\0\0\0\0\0\0\0\x09\0\0\0\0\0\0\0\x01\0\0\0\x05".to_vec(),
        b"C\0\0\0\0\0\0\0\0\0\x09\0\0\0\0\0\0\0\x0a\0\0\0\0\0\0\0\x01".to_vec(),
        relation,
        [b"I\0\0\0\x07N", tuple.as_slice()].concat(),
        [b"U\0\0\0\x07O", tuple.as_slice(), b"N", tuple].concat(),
        [b"D\0\0\0\x07K", tuple.as_slice()].concat(),
        b"T\0\0\0\x02\0\0\0\0\x07\0\0\0\x08".to_vec(),
        b"S\0\0\0\x05\x01".to_vec(),
        b"A\0\0\0\x05\0\0\0\x06".to_vec(),
        b"c\0\0\0\x05\0\0\0\0\0\0\0\0\x09\0\0\0\0\0\0\0\x0a\0\0\0\0\0\0\0\x01".to_vec(),
        b"M\0\0\0\x05".to_vec(),
    ]
}

#[test]
fn damaged_messages_of_the_log() {
    attack(&good(), |bytes| {
        for in_stream in [false, true] {
            let Some((_, message)) = pgoutput::read(Bytes::copy_from_slice(bytes), in_stream) else { continue };
            match message {
                LogMessage::Insert { new, .. } => assert!(new.cells().count() <= bytes.len()),
                LogMessage::Update { old, new, .. } => {
                    let old = old.map_or(0, |old| old.tuple.cells().count());
                    assert!(old + new.cells().count() <= bytes.len());
                }
                LogMessage::Delete { old, .. } => assert!(old.tuple.cells().count() <= bytes.len()),
                _ => {}
            }
        }
    });
}

/// What a server sends on the connection, in frames: a login, an answer, and a stream.
fn sent() -> Vec<Vec<u8>> {
    let frame = |tag: u8, body: &[u8]| {
        let length = u32::try_from(body.len() + 4).unwrap();
        [&[tag], length.to_be_bytes().as_slice(), body].concat()
    };
    let log = [b"w".as_slice(), &[0; 24], b"B\0\0\0\0\0\0\0\x09\0\0\0\0\0\0\0\x01\0\0\0\x05"].concat();
    let alive = [b"k".as_slice(), &[0; 16], b"\x01"].concat();
    let login = [
        frame(b'R', b"\0\0\0\x0aSCRAM-SHA-256\0\0"),
        frame(b'R', b"\0\0\0\x0br=nonce,s=c2FsdA==,i=4096"),
        frame(b'R', b"\0\0\0\x0cv=cHJvb2Y="),
        frame(b'R', b"\0\0\0\0"),
        frame(b'S', b"server_version\x0015.1\0"),
        frame(b'K', b"\0\0\0\x01\0\0\0\x02"),
        frame(b'Z', b"I"),
    ];
    let answer = [
        frame(b'T', b"\0\x01name\0\0\0\0\0\0\0\0\0\0\x19\xff\xff\xff\xff\xff\xff\0\0"),
        frame(b'D', b"\0\x02\0\0\0\x03abc\xff\xff\xff\xff"),
        frame(b'C', b"SELECT 1\0"),
        frame(b'E', b"SERROR\0C42501\0Mno\0\0"),
        frame(b'N', b"SNOTICE\0Mwell\0\0"),
        frame(b'Z', b"I"),
    ];
    let stream = [frame(b'W', b"\0\0\0"), frame(b'd', &log), frame(b'd', &alive), frame(b'd', &log), frame(b'c', b"")];
    vec![login.concat(), answer.concat(), stream.concat(), [login.concat(), answer.concat(), stream.concat()].concat()]
}

#[test]
fn damaged_frames_of_a_connection() {
    attack(&sent(), |bytes| {
        wait(async {
            let mut wire = Wire::of_bytes(bytes.to_vec());
            let _ = wire.log_in("sluice", "gate-7").await;
            let _ = wire.ask("select 1").await;
            let _ = wire.start("START_REPLICATION").await;
            while wire.next().await.is_ok() {
                while let Some(part) = wire.next_data() {
                    drop(pgoutput::read(part, false));
                }
            }
        });
    });
}

#[test]
fn a_length_that_is_announced_is_not_allocated() {
    let mut bytes = b"d\x3f\xff\xff\xff".to_vec();
    bytes.extend([0; 100]);
    let mut wire = Wire::of_bytes(bytes);
    assert!(wait(wire.next()).is_err());
    assert!(wire.capacity() < 4 << 20, "{}", wire.capacity());
}

#[test]
fn a_server_that_skips_its_proof_is_refused() {
    let frames = b"R\0\0\0\x17\0\0\0\x0aSCRAM-SHA-256\0\0R\0\0\0\x08\0\0\0\0Z\0\0\0\x05I";
    let mut wire = Wire::of_bytes(frames.to_vec());
    let said = format!("{:?}", wait(wire.log_in("sluice", "gate-7")).unwrap_err());
    assert!(said.contains("did not prove"), "{said}");
}
