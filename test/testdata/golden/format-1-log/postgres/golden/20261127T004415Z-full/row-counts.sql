SELECT 'public.berth', count(*) FROM ONLY public.berth;
SELECT 'public.boat', count(*) FROM ONLY public.boat;
