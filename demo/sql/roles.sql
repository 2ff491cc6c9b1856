do $$ begin
  if not exists (select from pg_roles where rolname = 'ferry_app') then create role ferry_app login; end if;
  if not exists (select from pg_roles where rolname = 'counter') then create role counter login; end if;
  if not exists (select from pg_roles where rolname = 'crew_office') then create role crew_office login; end if;
end $$;
