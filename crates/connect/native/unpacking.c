/* Bounds what librdkafka unpacks. It unpacks a batch of messages whole, before anybody counts its bytes: for gzip, snappy
 * and lz4 without a limit, for zstd up to `receive.message.max.bytes`, and as many batches as one answer holds. So whoever
 * may write to a topic could take all memory of whoever reads it with a few packed megabytes.
 *
 * These functions take the place of librdkafka's, by the linker's option --wrap. Each finds out the unpacked size first,
 * and refuses what would be more than MOST for one answer. The first batch of an answer has all of MOST to itself. A
 * refused batch is an error of its partition at its offset; the reader asks for it again (intakes/topics/assigned.rs), and
 * then it comes first. */

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <zlib.h>

/* Bytes. The same as librdkafka's limit for zstd and for the length of an answer. */
#define MOST 100000000u
/* RD_KAFKA_RESP_ERR__BAD_COMPRESSION. */
#define BAD_COMPRESSION (-198)

/* What this thread has unpacked since it last asked for messages. One thread serves one broker, and waits for an answer
 * before it asks again. */
static __thread uint64_t unpacked_so_far;

int __real_rd_kafka_broker_fetch_toppars(void *broker, int64_t now);

int __wrap_rd_kafka_broker_fetch_toppars(void *broker, int64_t now) {
    unpacked_so_far = 0;
    return __real_rd_kafka_broker_fetch_toppars(broker, now);
}

/* Whether so much more may be unpacked; if so, it is counted. */
static bool has_room(uint64_t size) {
    if (size > MOST || (unpacked_so_far > 0 && unpacked_so_far + size > MOST))
        return false;
    unpacked_so_far += size;
    return true;
}

/* gzip (RFC 1952): unpacked into a scratch buffer to count, and then into its place; librdkafka does the same. */
static bool gzip_size(const void *packed, int length, uint64_t *size) {
    unsigned char scratch[16384];
    z_stream stream;
    int result;
    memset(&stream, 0, sizeof(stream));
    if (length < 0 || inflateInit2(&stream, 15 + 32) != Z_OK)
        return false;
    stream.next_in  = (unsigned char *)packed;
    stream.avail_in = (unsigned int)length;
    do {
        stream.next_out  = scratch;
        stream.avail_out = sizeof(scratch);
        result           = inflate(&stream, Z_NO_FLUSH);
    } while (result == Z_OK && stream.avail_out == 0 && stream.total_out <= MOST);
    *size = stream.total_out;
    inflateEnd(&stream);
    return result == Z_OK || result == Z_STREAM_END || result == Z_BUF_ERROR;
}

/* Unpacks what was counted. */
static bool gzip_into(const void *packed, int length, unsigned char *out, uint64_t size) {
    z_stream stream;
    int result;
    memset(&stream, 0, sizeof(stream));
    if (inflateInit2(&stream, 15 + 32) != Z_OK)
        return false;
    stream.next_in   = (unsigned char *)packed;
    stream.avail_in  = (unsigned int)length;
    stream.next_out  = out;
    stream.avail_out = (unsigned int)size;
    result           = inflate(&stream, Z_NO_FLUSH);
    inflateEnd(&stream);
    return (result == Z_OK || result == Z_STREAM_END || result == Z_BUF_ERROR) && stream.avail_out == 0;
}

void *__wrap_rd_gz_decompress(const void *packed, int length, uint64_t *size) {
    uint64_t unpacked = 0;
    if (!gzip_size(packed, length, &unpacked) || !has_room(unpacked))
        return NULL;
    /* librdkafka frees it, and expects a zero behind it. */
    unsigned char *out = malloc((size_t)unpacked + 1);
    if (!out)
        return NULL;
    if (!gzip_into(packed, length, out, unpacked)) {
        free(out);
        return NULL;
    }
    out[unpacked] = 0;
    *size         = unpacked;
    return out;
}

/* Snappy: the size stands before the data (snappy's format_description.txt). */
bool __real_rd_kafka_snappy_uncompressed_length(const char *packed, size_t length, size_t *size);

bool __wrap_rd_kafka_snappy_uncompressed_length(const char *packed, size_t length, size_t *size) {
    return __real_rd_kafka_snappy_uncompressed_length(packed, length, size) && has_room(*size);
}

/* Snappy in the frames of the Java client: a length of four bytes before each piece. */
char *__real_rd_kafka_snappy_java_uncompress(const char *packed, size_t length, size_t *size, char *reason, size_t room);

char *__wrap_rd_kafka_snappy_java_uncompress(const char *packed, size_t length, size_t *size, char *reason, size_t room) {
    const unsigned char *bytes = (const unsigned char *)packed;
    uint64_t total             = 0;
    size_t at                  = 0;
    while (length - at > 4) {
        size_t piece = ((size_t)bytes[at] << 24) | ((size_t)bytes[at + 1] << 16) | ((size_t)bytes[at + 2] << 8) | bytes[at + 3];
        size_t one   = 0;
        at += 4;
        if (piece > length - at || !__real_rd_kafka_snappy_uncompressed_length(packed + at, piece, &one))
            break; /* librdkafka finds the same, and says so. */
        total += one;
        at += piece;
    }
    if (!has_room(total)) {
        strncpy(reason, "it would unpack to too much", room);
        if (room > 0)
            reason[room - 1] = 0;
        return NULL;
    }
    return __real_rd_kafka_snappy_java_uncompress(packed, length, size, reason, room);
}

/* The unpacked size of a block of LZ4 (lz4_Block_format.md): the literals and matches of its sequences. */
static uint64_t lz4_block_size(const unsigned char *block, size_t length) {
    uint64_t size = 0;
    size_t at     = 0;
    while (at < length) {
        unsigned char token = block[at++];
        uint64_t literals = token >> 4, match = token & 15;
        if (literals == 15)
            while (at < length && (literals += block[at], block[at++] == 255))
                ;
        size += literals;
        if (literals >= length - at)
            break; /* The last sequence has no match. */
        at += (size_t)literals + 2;
        if (match == 15)
            while (at < length && (match += block[at], block[at++] == 255))
                ;
        size += match + 4;
    }
    return size;
}

static uint64_t little_endian(const unsigned char *bytes, int count) {
    uint64_t value = 0;
    while (count-- > 0)
        value = (value << 8) | bytes[count];
    return value;
}

/* The unpacked size of a frame of LZ4 (lz4_Frame_format.md); false where it is none. */
static bool lz4_frame_size(const unsigned char *frame, size_t length, uint64_t *size) {
    if (length < 7 || little_endian(frame, 4) != 0x184D2204u)
        return false;
    const bool has_size = frame[4] & 0x08, has_dictionary = frame[4] & 0x01, has_checksums = frame[4] & 0x10;
    size_t at = 7 + (has_size ? 8 : 0) + (has_dictionary ? 4 : 0);
    if (at > length)
        return false;
    /* librdkafka makes room for the announced size at once. */
    if (has_size && little_endian(frame + 6, 8) > MOST) {
        *size = little_endian(frame + 6, 8);
        return true;
    }
    *size = 0;
    while (length - at >= 4 && *size <= MOST) {
        const uint64_t head = little_endian(frame + at, 4);
        const size_t block  = head & 0x7fffffffu;
        at += 4;
        if (block == 0)
            break;
        if (block > length - at)
            return false;
        *size += (head >> 31) ? block : lz4_block_size(frame + at, block);
        at += block;
        if (has_checksums) {
            if (length - at < 4)
                return false;
            at += 4;
        }
    }
    return true;
}

int __real_rd_kafka_lz4_decompress(void *broker, int proper, int64_t offset, char *packed, size_t length, void **out,
                                   size_t *size);

int __wrap_rd_kafka_lz4_decompress(void *broker, int proper, int64_t offset, char *packed, size_t length, void **out,
                                   size_t *size) {
    uint64_t unpacked = 0;
    if (!lz4_frame_size((const unsigned char *)packed, length, &unpacked) || !has_room(unpacked))
        return BAD_COMPRESSION;
    return __real_rd_kafka_lz4_decompress(broker, proper, offset, packed, length, out, size);
}

int __real_rd_kafka_zstd_decompress(void *broker, char *packed, size_t length, void **out, size_t *size);

int __wrap_rd_kafka_zstd_decompress(void *broker, char *packed, size_t length, void **out, size_t *size) {
    int result = __real_rd_kafka_zstd_decompress(broker, packed, length, out, size);
    if (result == 0 && !has_room(*size)) {
        free(*out);
        return BAD_COMPRESSION;
    }
    return result;
}
