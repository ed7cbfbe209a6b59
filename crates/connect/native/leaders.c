/* Takes the place of librdkafka's rd_kafka_metadata_update_op, by the linker's option --wrap.
 *
 * librdkafka 2.5 to 2.12 takes up a new leader that a broker adds to the answer of a fetch. Where the topic was deleted,
 * brokers may add one without the topic's id; librdkafka then looks up a topic without a name and follows a null pointer.
 * The addition only saves time: after the error in the same answer librdkafka asks for the metadata anyway, as all
 * versions before 2.5 did.
 */

enum { HANDLED = 1 /* RD_KAFKA_OP_RES_HANDLED: the caller frees what was to be taken up */ };

int __wrap_rd_kafka_metadata_update_op(void *client, void *metadata) {
        (void)client;
        (void)metadata;
        return HANDLED;
}
