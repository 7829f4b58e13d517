SELECT 'log', count(*) FROM log;
SELECT 'sailing', count(*) FROM sailing;
SELECT 'vessel', count(*) FROM vessel;
