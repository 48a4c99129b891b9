-- Nights that are booked, by hut and month.
SELECT
  h.name AS hut,
  date_trunc('month', b.stay_from) AS month,
  count(*) AS bookings,
  CAST(sum(b.stay_to - b.stay_from) AS BIGINT) AS nights
FROM bookings.bookings AS b
JOIN bookings.huts AS h ON h.id = b.hut_id
WHERE b.state <> 'cancelled'
GROUP BY 1, 2
