//! What requests look like, so that one that lies about its lengths is refused before it is decoded.
//!
//! `kafka-protocol` makes room for as many elements as a list announces before it reads the first: a request of a few
//! bytes could take all memory. Here each list, text and byte string is walked without making room for anything. The
//! shapes are those of the protocol's message definitions, in the versions that the stand-in knows
//! ([`super::answer::VERSIONS`]).

use kafka_protocol::messages::ApiKey;

/// A part of a message.
enum Part {
    /// So many bytes.
    Fixed(usize),
    /// Text; perhaps none.
    Text,
    /// Bytes; perhaps none.
    Bytes,
    /// A list of structures; perhaps none.
    List(&'static [Field]),
    /// A list of texts; perhaps none.
    Texts,
    /// A list of elements of so many bytes; perhaps none.
    Numbers(usize),
}

/// A part, and the versions that have it.
struct Field(Part, i16, i16);

/// In every version. Macros, for references to what a function gives do not live long enough.
macro_rules! always {
    ($part:expr) => {
        Field($part, 0, i16::MAX)
    };
}

/// From a version onward.
macro_rules! since {
    ($version:expr, $part:expr) => {
        Field($part, $version, i16::MAX)
    };
}

const BYTE: Field = always!(Part::Fixed(1));
const SHORT: Field = always!(Part::Fixed(2));
const INT: Field = always!(Part::Fixed(4));
const LONG: Field = always!(Part::Fixed(8));
const TEXT: Field = always!(Part::Text);

/// Topics, each with the numbers of partitions.
const PARTITIONS: Field = always!(Part::List(&[TEXT, always!(Part::Numbers(4))]));

/// The request of a kind; None for one that is not known.
const fn shape(key: ApiKey) -> Option<&'static [Field]> {
    Some(match key {
        ApiKey::Produce => {
            const TOPICS: Part = Part::List(&[TEXT, always!(Part::List(&[INT, always!(Part::Bytes)]))]);
            &[TEXT, SHORT, INT, always!(TOPICS)]
        }
        ApiKey::Fetch => {
            const PARTITION: &[Field] = &[INT, since!(9, Part::Fixed(4)), LONG, since!(5, Part::Fixed(8)), INT];
            &[
                INT,
                INT,
                INT,
                INT,
                BYTE,
                since!(7, Part::Fixed(8)),
                always!(Part::List(&[TEXT, always!(Part::List(PARTITION))])),
                since!(7, Part::List(&[TEXT, always!(Part::Numbers(4))])),
                since!(11, Part::Text),
            ]
        }
        ApiKey::ListOffsets => {
            const TOPICS: Part = Part::List(&[TEXT, always!(Part::List(&[INT, since!(4, Part::Fixed(4)), LONG]))]);
            &[INT, since!(2, Part::Fixed(1)), always!(TOPICS)]
        }
        ApiKey::Metadata => &[
            always!(Part::List(&[TEXT])),
            since!(4, Part::Fixed(1)),
            since!(8, Part::Fixed(1)),
            since!(8, Part::Fixed(1)),
        ],
        ApiKey::OffsetCommit => {
            const TOPICS: Part =
                Part::List(&[TEXT, always!(Part::List(&[INT, LONG, since!(6, Part::Fixed(4)), TEXT]))]);
            &[TEXT, INT, TEXT, since!(7, Part::Text), Field(Part::Fixed(8), 2, 4), always!(TOPICS)]
        }
        ApiKey::OffsetFetch => &[TEXT, PARTITIONS, since!(7, Part::Fixed(1))],
        ApiKey::FindCoordinator => &[TEXT, since!(1, Part::Fixed(1))],
        ApiKey::SaslHandshake => &[TEXT],
        ApiKey::SaslAuthenticate => &[always!(Part::Bytes)],
        ApiKey::ApiVersions => &[since!(3, Part::Text), since!(3, Part::Text)],
        ApiKey::CreateTopics => {
            const ASSIGNMENTS: Part = Part::List(&[INT, always!(Part::Numbers(4))]);
            const TOPIC: &[Field] = &[TEXT, INT, SHORT, always!(ASSIGNMENTS), always!(Part::List(&[TEXT, TEXT]))];
            &[always!(Part::List(TOPIC)), INT, BYTE]
        }
        ApiKey::DeleteTopics => &[always!(Part::Texts), INT],
        ApiKey::DeleteRecords => &[always!(Part::List(&[TEXT, always!(Part::List(&[INT, LONG]))])), INT],
        ApiKey::InitProducerId => &[TEXT, INT, since!(3, Part::Fixed(10))],
        ApiKey::AddPartitionsToTxn => &[TEXT, LONG, SHORT, PARTITIONS],
        ApiKey::AddOffsetsToTxn => &[TEXT, LONG, SHORT, TEXT],
        ApiKey::EndTxn => &[TEXT, LONG, SHORT, BYTE],
        ApiKey::TxnOffsetCommit => {
            const TOPICS: Part =
                Part::List(&[TEXT, always!(Part::List(&[INT, LONG, since!(2, Part::Fixed(4)), TEXT]))]);
            &[
                TEXT,
                TEXT,
                LONG,
                SHORT,
                since!(3, Part::Fixed(4)),
                since!(3, Part::Text),
                since!(3, Part::Text),
                always!(TOPICS),
            ]
        }
        ApiKey::DescribeConfigs => {
            &[always!(Part::List(&[BYTE, TEXT, always!(Part::Texts)])), BYTE, since!(3, Part::Fixed(1))]
        }
        ApiKey::CreatePartitions => {
            const ASSIGNMENTS: Part = Part::List(&[always!(Part::Numbers(4))]);
            &[always!(Part::List(&[TEXT, INT, always!(ASSIGNMENTS)])), INT, BYTE]
        }
        ApiKey::DescribeProducers => &[PARTITIONS],
        ApiKey::ListTransactions => &[always!(Part::Texts), always!(Part::Numbers(8))],
        _ => return None,
    })
}

/// How many bytes of a request its parts take; None where they are more than there are.
pub(super) fn length(key: ApiKey, version: i16, body: &[u8]) -> Option<usize> {
    // Requests with packed lengths have a header with room for tagged fields, and the others have not.
    let is_packed = key.request_header_version(version) >= 2;
    let mut walk = Walk { rest: body, version, is_packed };
    walk.structure(shape(key)?)?;
    Some(body.len() - walk.rest.len())
}

/// A walk over the bytes of a message.
pub(super) struct Walk<'b> {
    pub rest: &'b [u8],
    version: i16,
    is_packed: bool,
}

impl<'b> Walk<'b> {
    /// Over bytes that are not a request.
    pub(super) fn over(rest: &'b [u8]) -> Self {
        Self { rest, version: 0, is_packed: true }
    }

    pub(super) fn skip(&mut self, count: usize) -> Option<()> {
        self.rest = self.rest.get(count..)?;
        Some(())
    }

    /// A number of seven bits a byte, the lowest first.
    pub(super) fn varint(&mut self) -> Option<u64> {
        let mut value = 0;
        for shift in (0..64).step_by(7) {
            let byte = *self.rest.first()?;
            self.skip(1)?;
            value |= u64::from(byte & 0x7f).checked_shl(shift)?;
            if byte & 0x80 == 0 {
                return Some(value);
            }
        }
        None
    }

    /// The same with a sign, in zigzag.
    pub(super) fn signed(&mut self) -> Option<i64> {
        let value = self.varint()?;
        Some((value >> 1).cast_signed() ^ -(value & 1).cast_signed())
    }

    fn big_endian<const N: usize>(&mut self) -> Option<[u8; N]> {
        let bytes = *self.rest.first_chunk::<N>()?;
        self.skip(N)?;
        Some(bytes)
    }

    /// A length, with so many bytes where lengths are not packed; no value is a length of zero.
    fn length(&mut self, is_short: bool) -> Option<usize> {
        let length = match (self.is_packed, is_short) {
            (true, _) => i64::try_from(self.varint()?).ok()? - 1,
            (false, true) => i16::from_be_bytes(self.big_endian()?).into(),
            (false, false) => i32::from_be_bytes(self.big_endian()?).into(),
        };
        usize::try_from(length.max(0)).ok()
    }

    fn text(&mut self) -> Option<()> {
        let length = self.length(true)?;
        self.skip(length)
    }

    fn structure(&mut self, fields: &[Field]) -> Option<()> {
        for Field(part, from, to) in fields {
            if (*from..=*to).contains(&self.version) {
                self.part(part)?;
            }
        }
        if self.is_packed {
            let tags = self.varint()?;
            for _ in 0..tags {
                self.varint()?;
                let length = usize::try_from(self.varint()?).ok()?;
                self.skip(length)?;
            }
        }
        Some(())
    }

    fn part(&mut self, part: &Part) -> Option<()> {
        match part {
            Part::Fixed(count) => self.skip(*count),
            Part::Text => self.text(),
            Part::Bytes => {
                let length = self.length(false)?;
                self.skip(length)
            }
            Part::List(fields) => {
                for _ in 0..self.length(false)? {
                    self.structure(fields)?;
                }
                Some(())
            }
            Part::Texts => {
                for _ in 0..self.length(false)? {
                    self.text()?;
                }
                Some(())
            }
            Part::Numbers(size) => {
                let count = self.length(false)?;
                self.skip(count.checked_mul(*size)?)
            }
        }
    }
}

/// Whether there are exactly so many records, each as long as it says, with as many headers.
pub(super) fn are_records(bytes: &[u8], count: i32) -> bool {
    let mut walk = Walk::over(bytes);
    (0..count).all(|_| record(&mut walk).is_some()) && walk.rest.is_empty()
}

/// One record of a batch of version 2.
fn record(walk: &mut Walk<'_>) -> Option<()> {
    let length = usize::try_from(walk.signed()?).ok()?;
    let mut own = Walk::over(walk.rest.get(..length)?);
    walk.skip(length)?;
    own.skip(1)?;
    // Its time and its offset, counted from those of the batch.
    own.signed()?;
    own.signed()?;
    let piece = |own: &mut Walk<'_>| {
        let length = usize::try_from(own.signed()?.max(0)).ok()?;
        own.skip(length)
    };
    piece(&mut own)?;
    piece(&mut own)?;
    let headers = usize::try_from(own.signed()?).ok()?;
    for _ in 0..headers {
        piece(&mut own)?;
        piece(&mut own)?;
    }
    own.rest.is_empty().then_some(())
}
