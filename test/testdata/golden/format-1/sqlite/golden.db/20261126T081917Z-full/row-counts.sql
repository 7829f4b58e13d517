SELECT 'sailing', count(*) FROM sailing;
SELECT 'vessel', count(*) FROM vessel;
