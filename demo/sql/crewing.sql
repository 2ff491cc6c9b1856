-- Structure and data of the database "crewing". Everybody in it is invented.
select setseed(0.7);
create schema roster authorization crew_office;
create schema payroll authorization crew_office;
create schema import authorization crew_office;
set role crew_office;

create type roster.rank as enum ('deckhand', 'able seaman', 'bosun', 'mate', 'master', 'engineer', 'steward');
create table roster.crew_member (
  crew_id integer primary key, name text not null, rank roster.rank not null, home_port text not null, hired date not null,
  mentor_id integer references roster.crew_member);
create table roster.shift (
  shift_id bigint generated always as identity primary key, crew_id integer not null references roster.crew_member, ship text not null,
  during tstzrange not null, standby boolean not null default false);
create index shift_by_crew on roster.shift (crew_id);
create index shift_during on roster.shift using gist (during);
create table roster.certificate (
  certificate_id integer primary key, crew_id integer not null references roster.crew_member, kind text not null, valid daterange not null, scan bytea);
create table payroll.payslip (
  payslip_id bigint generated always as identity primary key, crew_id integer not null, month date not null, gross numeric(10, 2) not null,
  net numeric(10, 2) generated always as (round(gross * 0.68, 2)) stored, unique (crew_id, month));
create table payroll.allowance (crew_id integer not null, kind text not null, amount numeric(8, 2) not null, primary key (crew_id, kind));
create unlogged table import.timesheet_raw (line_no integer, line text);

insert into roster.crew_member
  select g, (array['Asta', 'Bjarne', 'Ciel', 'Dorte', 'Einar', 'Frode', 'Gunn', 'Hedda', 'Ingo', 'Jorun'])[1 + g % 10] || ' ' || (array['Tangen', 'Rud', 'Foss', 'Nes', 'Lie', 'Hauge', 'Bakke'])[1 + g % 7],
    (enum_range(null::roster.rank))[1 + g % 7], (array['Quellmark', 'Holmsund', 'Sandhaven'])[1 + g % 3], date '2009-01-01' + g * 11, case when g > 20 then 1 + g % 20 end
  from generate_series(1, 460) g;
insert into roster.shift (crew_id, ship, during, standby)
  select 1 + g % 460, (array['Morning Tern', 'Graywing', 'Amber Light', 'Skerry Queen', 'Saltire'])[1 + g % 5], tstzrange(at, at + interval '8 hours'), g % 11 = 0
  from (select g, current_setting('demo.start')::timestamptz - (42000 - g) * interval '7 minutes' as at from generate_series(1, 42000) g) shifts;
insert into roster.certificate
  select g, 1 + g % 460, (array['sea survival', 'radio', 'medical'])[1 + g % 3], daterange(date '2024-01-01' + g % 500, date '2027-01-01' + g % 500), decode(repeat(md5(g::text), 24), 'hex')
  from generate_series(1, 1380) g;
insert into payroll.payslip (crew_id, month, gross)
  select c, (date '2024-01-01' + m * interval '1 month')::date, 2400 + (c * 13 + m * 7) % 1900 from generate_series(1, 460) c, generate_series(0, 34) m;
insert into payroll.allowance select c, k, 20 + c % 9 * 15 from generate_series(1, 460) c, unnest(array['night', 'island', 'training']) k;
insert into import.timesheet_raw select g, 'crew=' || g % 460 || ';clocked=' || md5(g::text) from generate_series(1, 20000) g;
create view roster.on_duty as
  select c.crew_id, c.name, c.rank, s.ship, upper(s.during) as until from roster.shift s join roster.crew_member c using (crew_id) where s.during @> now();
create function roster.hours(crew integer) returns interval language sql stable as
  $$ select sum(upper(during) - lower(during)) from roster.shift where crew_id = crew and not standby $$;
reset role;
