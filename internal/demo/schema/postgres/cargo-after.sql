CREATE INDEX item_words ON freight.item USING gin (to_tsvector('simple', description));
CREATE INDEX item_consignment ON freight.item (consignment_id);
