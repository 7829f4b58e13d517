ALTER TABLE item ADD FULLTEXT KEY item_words (description);
