SELECT 'log', count(*) FROM log;
SELECT 'quay', count(*) FROM quay;
SELECT 'sailing', count(*) FROM sailing;
SELECT 'vessel', count(*) FROM vessel;
