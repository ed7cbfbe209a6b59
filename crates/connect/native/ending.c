/* The program ends while threads of librdkafka may still log in somewhere: nobody waits for what they have asked a broker
 * (`let_go` in src/broker). OpenSSL would free all it has when the program ends, under these threads, and one that was
 * just computing the proof of a password would read freed memory. With this flag it leaves that to the system. It must be
 * set before anything else of OpenSSL is used, so it is set before `main`. */

#include <stdint.h>

/* From openssl/crypto.h. */
#define OPENSSL_INIT_NO_ATEXIT 0x00080000L
extern int OPENSSL_init_crypto(uint64_t options, const void *settings);

__attribute__((constructor)) static void leave_openssl_as_it_is(void) {
    OPENSSL_init_crypto(OPENSSL_INIT_NO_ATEXIT, 0);
}
