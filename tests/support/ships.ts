/** A small database with one of most things that belong to tables. */
export const SHIPS = `
do $$ begin
  if not exists (select from pg_roles where rolname = 'harbour_clerk') then create role harbour_clerk; end if;
end $$;
create schema sales; grant usage on schema sales to harbour_clerk;
create extension if not exists pg_trgm schema public;
create type sales.leg_state as enum ('held', 'paid', 'sailed');
create domain sales.fare as numeric(8, 2) check (value >= 0);
create function sales.next_code() returns text language sql as $$ select 'QM' || (random() * 1000)::int $$;
create table sales.ship (ship_id integer primary key, name text not null unique, built date);
insert into sales.ship select g, 'Ship ' || g, date '1990-01-01' + g from generate_series(1, 40) g;
create table sales.booking (
  booking_id bigint generated always as identity primary key, code text default sales.next_code(), ship_id int references sales.ship,
  note text, tags text[], extra jsonb, paid boolean
);
insert into sales.booking (ship_id, note, tags, extra, paid)
  select 1 + g % 40, case g % 5 when 0 then null when 1 then '' when 2 then e'tab\\tline\\nback\\\\slash' else 'Größe ' || g end,
    array['a', null, 'b"c'], jsonb_build_object('n', g, 'x', null), g % 3 = 0 from generate_series(1, 1000) g;
create table sales.leg (
  leg_id serial primary key, booking_id bigint not null references sales.booking on delete cascade, fare sales.fare not null default 10,
  state sales.leg_state not null default 'held', doubled numeric generated always as (fare * 2) stored, at timestamptz default now(),
  constraint cheap check (fare < 1000)
);
insert into sales.leg (booking_id, fare, state, at)
  select 1 + g % 1000, (g % 200) + 0.5, (array['held', 'paid', 'sailed'])[1 + g % 3]::sales.leg_state, timestamptz '2026-11-01' + g * interval '1 minute'
  from generate_series(1, 3000) g;
create index leg_by_booking on sales.leg (booking_id) where state <> 'held';
create unique index leg_expression on sales.leg ((leg_id * 2));
create statistics sales.leg_stats on booking_id, state from sales.leg;
comment on table sales.leg is 'One crossing of one booking';
comment on column sales.leg.fare is 'in euro';
comment on index sales.leg_by_booking is 'for the counter';
create function sales.refuse() returns trigger language plpgsql as $$ begin raise exception 'a trigger fired'; end $$;
create trigger never before insert or update on sales.leg for each row when (new.fare = 77.77) execute function sales.refuse();
create trigger asleep before delete on sales.leg for each row execute function sales.refuse();
alter table sales.leg disable trigger asleep;
alter table sales.leg enable row level security;
create policy clerks on sales.leg for select to harbour_clerk using (state <> 'held');
grant select, update (fare) on sales.leg to harbour_clerk;
alter table sales.leg owner to harbour_clerk;
alter table sales.leg replica identity full;
create table sales.refund (refund_id int primary key, leg_id int references sales.leg deferrable initially deferred, reason text);
insert into sales.refund select g, g * 3, 'late' from generate_series(1, 200) g;
create view sales.leg_with_ship as select l.leg_id, s.name from sales.leg l join sales.booking b using (booking_id) join sales.ship s using (ship_id);
create materialized view sales.fares_by_state as select state, sum(fare) as total from sales.leg group by state;
create unique index on sales.fares_by_state (state);
grant select on sales.leg_with_ship to harbour_clerk;
create table sales.payment (payment_id int, paid_at date not null, amount numeric, primary key (payment_id, paid_at)) partition by range (paid_at);
create table sales.payment_2026_10 partition of sales.payment for values from ('2026-10-01') to ('2026-11-01');
create table sales.payment_2026_11 partition of sales.payment for values from ('2026-11-01') to ('2026-12-01');
create index payment_amount on sales.payment (amount);
insert into sales.payment select g, date '2026-10-01' + g % 60, g from generate_series(1, 600) g;
create sequence sales.ticket_number start 500;
select setval('sales.ticket_number', 777);
create schema "Odd ""schema""";
create table "Odd ""schema"""."Tisch größe/%" ("a key" int primary key, "select" text);
insert into "Odd ""schema"""."Tisch größe/%" values (1, 'x'), (2, null);
create table "Odd ""schema"""."no key" (x float8, y bytea);
insert into "Odd ""schema"""."no key" values ('NaN', '\\x00ff0a09'), ('-Infinity', null), (0.1, ''), (0.1, '');
`
