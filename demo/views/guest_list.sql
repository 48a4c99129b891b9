-- A line for each guest of a booking, with its hut and its dates.
SELECT b.reference, h.name AS hut, b.stay_from, b.stay_to, g.eb_position + 1 AS place, g.name AS guest, g.age, g.member
FROM bookings.bookings AS b
JOIN bookings.huts AS h ON h.id = b.hut_id
JOIN bookings.bookings_guests AS g ON g.bookings_id = b.id
