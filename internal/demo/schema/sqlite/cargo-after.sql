INSERT INTO item_search(item_search) VALUES ('rebuild');
CREATE INDEX item_consignment ON item (consignment_id);
CREATE TRIGGER item_search_add AFTER INSERT ON item
BEGIN
    INSERT INTO item_search(rowid, description) VALUES (new.id, new.description);
END;
