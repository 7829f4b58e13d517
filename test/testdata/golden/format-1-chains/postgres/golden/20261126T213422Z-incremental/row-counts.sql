SELECT 'public.log', count(*) FROM ONLY public.log;
SELECT 'public.quay', count(*) FROM ONLY public.quay;
SELECT 'public.sailing', count(*) FROM ONLY public.sailing;
SELECT 'public.vessel', count(*) FROM ONLY public.vessel;
