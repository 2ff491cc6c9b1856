import type pg from 'pg'

// What happens in the two databases while time goes by: tickets are sold and changed, crew take shifts.

/** Sells `bookings` tickets at a moment, with their legs and payments, and moves some legs on. */
export async function sellTickets(client: pg.Client, bookings: number, at: Date): Promise<void> {
  await client.query(
    `with sold as (
       insert into sales.booking (customer_id, reference, channel, created_at)
       select 1 + floor(random() * 24000)::int, 'Q' || upper(substr(md5(random()::text || g || $2::timestamptz::text), 1, 11)), (array['web', 'web', 'counter', 'phone'])[1 + g % 4], $2::timestamptz
       from generate_series(1, $1::int) g returning booking_id),
     legs as (
       insert into sales.booking_leg (booking_id, sailing_id, berth, fare, status, updated_at)
       select booking_id, 1 + floor(random() * (select max(sailing_id) - 1 from timetable.sailing))::int,
         (array['A', 'B', 'C', 'deck'])[1 + booking_id % 4] || '-' || (100 + booking_id % 140), (array[31.5, 62, 84, 92, 140])[1 + booking_id % 5], 'paid', $2::timestamptz
       from sold returning booking_id, fare)
     insert into sales.payment (booking_id, paid_at, amount, method) select booking_id, $2::timestamptz, fare, 'card' from legs`,
    [bookings, at],
  )
  await client.query(
    `update sales.booking_leg set status = 'boarded' where leg_id in (select leg_id from sales.booking_leg where status = 'paid' order by leg_id desc offset 400 limit $1::int)`,
    [Math.ceil(bookings / 3)],
  )
  await client.query(
    `insert into loyalty.point_entry (member_id, points, why, at) select 1 + floor(random() * 7000)::int, 20, 'crossing', $2::timestamptz from generate_series(1, $1::int)`,
    [Math.ceil(bookings / 4), at],
  )
}

export async function takeShifts(client: pg.Client, shifts: number, at: Date): Promise<void> {
  await client.query(
    `insert into roster.shift (crew_id, ship, during) select 1 + floor(random() * 460)::int, 'Kittiwake', tstzrange($2::timestamptz, $2::timestamptz + interval '8 hours') from generate_series(1, $1::int)`,
    [shifts, at],
  )
}
