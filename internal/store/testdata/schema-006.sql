
SET statement_timeout = 0;
SET lock_timeout = 0;
SET idle_in_transaction_session_timeout = 0;
SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
SELECT pg_catalog.set_config('search_path', '', false);
SET check_function_bodies = false;
SET xmloption = content;
SET client_min_messages = warning;
SET row_security = off;

CREATE TYPE public.river_job_state AS ENUM (
    'available',
    'cancelled',
    'completed',
    'discarded',
    'pending',
    'retryable',
    'running',
    'scheduled'
);

CREATE FUNCTION public.bare_value(v jsonb) RETURNS jsonb
    LANGUAGE sql IMMUTABLE
    AS $$ select case jsonb_typeof(v) when 'object' then v - 'at' else v end $$;

CREATE FUNCTION public.claim_slot(p_scope text, p_most integer, p_holder text, p_ttl interval) RETURNS boolean
    LANGUAGE plpgsql
    AS $$
declare got int;
begin
  for i in 1..2 loop
    update claim c set holder = p_holder, until = now() + p_ttl
      where c.scope = p_scope and c.slot = (select x.slot from claim x where x.scope = p_scope and x.slot <= p_most and x.until <= now() limit 1 for update skip locked)
      returning slot into got;
    if got is not null then return true; end if;
    if i = 2 or exists (select 1 from claim where scope = p_scope and slot = p_most) then return false; end if;
    insert into claim (scope, slot) select p_scope, s from generate_series(1, p_most) s on conflict do nothing;
  end loop;
  return false;
end $$;

CREATE FUNCTION public.claims_back(p_holder text) RETURNS void
    LANGUAGE sql
    AS $$ update claim set until = '-infinity' where holder = p_holder and until > now() $$;

CREATE FUNCTION public.mark_changed() RETURNS trigger
    LANGUAGE plpgsql
    AS $$
declare touched bigint[];
begin
  -- An upsert fires both triggers, the one that has nothing to do too.
  if tg_op <> 'DELETE' then
    if not exists (select 1 from new_marks) then return null; end if;
  end if;
  if tg_op = 'INSERT' then
    insert into mark_count as c select site_id, stage, state, act, count(*), sum(changes) from new_marks group by 1, 2, 3, 4 order by 1, 2, 3, 4
      on conflict (site_id, stage, state, act) do update set n = c.n + excluded.n, changes = c.changes + excluded.changes;
  elsif tg_op = 'DELETE' then
    update mark_count c set n = c.n - x.n, changes = c.changes - x.changes from (select site_id, stage, state, act, count(*) n, sum(changes) changes from old_marks group by 1, 2, 3, 4) x
      where (c.site_id, c.stage, c.state, c.act) = (x.site_id, x.stage, x.state, x.act);
    return null;
  else
    insert into mark_count as c select site_id, stage, state, act, sum(n), sum(changes) from
      (select site_id, stage, state, act, 1 n, changes from new_marks union all select site_id, stage, state, act, -1, -changes from old_marks) x
      group by 1, 2, 3, 4 having sum(n) <> 0 or sum(changes) <> 0 order by 1, 2, 3, 4
      on conflict (site_id, stage, state, act) do update set n = c.n + excluded.n, changes = c.changes + excluded.changes;
  end if;
  select array_agg(distinct source_id) into touched from new_marks;
  update source s set standing = x.standing from
    (select i.id, (select string_agg(state_letter(m.state), '' order by m.stage) from mark m where m.source_id = i.id) standing from unnest(touched) i(id)) x
    where s.id = x.id and s.standing is distinct from x.standing and x.standing is not null;
  return null;
end $$;

CREATE FUNCTION public.river_job_state_in_bitmask(bitmask bit, state public.river_job_state) RETURNS boolean
    LANGUAGE sql IMMUTABLE
    AS $$
    SELECT CASE state
        WHEN 'available' THEN get_bit(bitmask, 7)
        WHEN 'cancelled' THEN get_bit(bitmask, 6)
        WHEN 'completed' THEN get_bit(bitmask, 5)
        WHEN 'discarded' THEN get_bit(bitmask, 4)
        WHEN 'pending'   THEN get_bit(bitmask, 3)
        WHEN 'retryable' THEN get_bit(bitmask, 2)
        WHEN 'running'   THEN get_bit(bitmask, 1)
        WHEN 'scheduled' THEN get_bit(bitmask, 0)
        ELSE 0
    END = 1;
$$;

CREATE FUNCTION public.state_letter(state text) RETURNS text
    LANGUAGE sql IMMUTABLE
    AS $$ select case state when 'ready' then 'r' when 'needs' then 'n' when 'blocked' then 'b' when 'working' then 'w' when 'stale' then 's' when 'na' then 'a' else 'y' end $$;

CREATE FUNCTION public.step_begin(p_step bigint, p_device bigint, p_holder text, p_ttl interval, p_net bigint, p_net_most integer, p_rec_most integer, p_recorder boolean, OUT verdict text, OUT fence bigint) RETURNS record
    LANGUAGE plpgsql
    AS $$
declare r record; rec bigint;
begin
  perform set_config('synchronous_commit', 'off', true); -- a step that is lost with the database is done again
  fence := 0;
  select t.state, run.stop into r from run_step t join run on run.id = t.run_id where t.id = p_step;
  if not found or r.state not in ('waiting', 'working') then verdict := 'settled'; return; end if;
  if p_device <> 0 then
    if not r.stop and p_net <> 0 and not claim_slot('network/' || p_net, p_net_most, p_holder, p_ttl) then verdict := 'full'; return; end if;
    if not r.stop and p_recorder then
      select case when kind = 'recorder' then id else recorder_id end into rec from device where id = p_device;
      if rec is not null and not claim_slot('recorder/' || rec, p_rec_most, p_holder, p_ttl) then
        perform claims_back(p_holder);
        verdict := 'full';
        return;
      end if;
    end if;
    insert into lease as l (device_id, holder, fence, until) values (p_device, p_holder, 1, now() + p_ttl)
      on conflict (device_id) do update set holder = excluded.holder, until = excluded.until, fence = l.fence + 1
      where l.until <= now() or l.holder = excluded.holder returning l.fence into fence;
    if fence is null then
      perform claims_back(p_holder);
      verdict := 'held'; fence := 0;
      return;
    end if;
  end if;
  update run_step set state = case when r.stop then 'stopped' else 'working' end, began_at = coalesce(began_at, now()) where id = p_step and state in ('waiting', 'working');
  if not found then -- settled in the meantime: nothing is held for it
    perform claims_back(p_holder);
    update lease set until = now() where device_id = p_device and holder = p_holder;
    verdict := 'settled';
    return;
  end if;
  verdict := case when r.stop then 'stopped' else 'go' end;
end $$;

CREATE FUNCTION public.step_end(p_step bigint, p_device bigint, p_holder text, p_fence bigint, p_state text, p_says text) RETURNS boolean
    LANGUAGE plpgsql
    AS $$
declare run_of bigint; was text;
begin
  perform set_config('synchronous_commit', 'off', true);
  perform claims_back(p_holder);
  if p_device <> 0 then
    update lease set until = now() where device_id = p_device and holder = p_holder and fence = p_fence;
    if not found then return false; end if;
  end if;
  update run_step set state = case when state = 'stopped' then state else p_state end, says = p_says, ended_at = case when p_state <> 'waiting' then now() end
    where id = p_step and state in ('waiting', 'working', 'stopped') and ended_at is null returning run_id into run_of;
  if run_of is null or p_state = 'waiting' then return true; end if;
  -- One at a time, so that the last of a run's steps sees that it is the last.
  perform 1 from run where id = run_of for no key update;
  if not exists (select 1 from run_step t where t.run_id = run_of and t.state in ('waiting', 'working')) then
    update run r set ended_at = now(), done = t.done, failed = t.failed, stopped = t.stopped from (select count(*) filter (where state = 'done') done,
      count(*) filter (where state = 'failed') failed, count(*) filter (where state = 'stopped') stopped from run_step where run_id = run_of) t
      where r.id = run_of and r.ended_at is null;
  end if;
  return true;
end $$;

SET default_tablespace = '';

SET default_table_access_method = heap;

CREATE TABLE public.acceptance (
    device_id bigint NOT NULL,
    stage smallint NOT NULL,
    code text NOT NULL,
    person_id bigint,
    at timestamp with time zone DEFAULT now() NOT NULL
);

CREATE TABLE public.api_token (
    id bigint NOT NULL,
    site_id bigint NOT NULL,
    name text NOT NULL,
    hash bytea NOT NULL,
    scopes text[] NOT NULL,
    person_id bigint,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    expires_at timestamp with time zone,
    used_at timestamp with time zone,
    ended_at timestamp with time zone,
    CONSTRAINT api_token_scopes_check CHECK ((scopes <@ ARRAY['read'::text, 'run'::text, 'apply'::text]))
);

ALTER TABLE public.api_token ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.api_token_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.audit (
    id bigint NOT NULL,
    site_id bigint,
    person_id bigint,
    at timestamp with time zone DEFAULT now() NOT NULL,
    act text NOT NULL,
    detail text DEFAULT ''::text NOT NULL,
    token_id bigint
);

ALTER TABLE public.audit ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.audit_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.change (
    id bigint NOT NULL,
    site_id bigint NOT NULL,
    device_id bigint NOT NULL,
    source_id bigint,
    step_id bigint,
    stage smallint NOT NULL,
    kind text NOT NULL,
    key text NOT NULL,
    title text NOT NULL,
    from_text text NOT NULL,
    to_text text NOT NULL,
    why text NOT NULL,
    risk text NOT NULL,
    undo jsonb NOT NULL,
    args jsonb NOT NULL,
    later bigint[] DEFAULT '{}'::bigint[] NOT NULL,
    state text NOT NULL,
    says text DEFAULT ''::text NOT NULL,
    reads text DEFAULT ''::text NOT NULL,
    writes integer DEFAULT 0 NOT NULL,
    person_id bigint,
    asked_at timestamp with time zone DEFAULT now() NOT NULL,
    sent_at timestamp with time zone,
    settled_at timestamp with time zone,
    undo_of bigint,
    fence bigint DEFAULT 0 NOT NULL,
    token_id bigint,
    CONSTRAINT change_state_check CHECK ((state = ANY (ARRAY['asked'::text, 'sent'::text, 'read back'::text, 'verified'::text, 'failed'::text, 'asks'::text, 'undoing'::text, 'undone'::text])))
);

ALTER TABLE public.change ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.change_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE UNLOGGED TABLE public.claim (
    scope text NOT NULL,
    slot integer NOT NULL,
    holder text DEFAULT ''::text NOT NULL,
    until timestamp with time zone DEFAULT '-infinity'::timestamp with time zone NOT NULL
);

CREATE TABLE public.credential_set (
    id bigint NOT NULL,
    site_id bigint NOT NULL,
    name text NOT NULL,
    username text NOT NULL,
    sealed bytea DEFAULT '\x'::bytea NOT NULL,
    make text DEFAULT ''::text NOT NULL,
    factory boolean DEFAULT false NOT NULL,
    network_id bigint,
    device_id bigint,
    former boolean DEFAULT false NOT NULL
);

ALTER TABLE public.credential_set ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.credential_set_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.device (
    id bigint NOT NULL,
    site_id bigint NOT NULL,
    kind text NOT NULL,
    place text NOT NULL,
    make text DEFAULT ''::text NOT NULL,
    model text DEFAULT ''::text NOT NULL,
    address inet,
    expected_at inet,
    expected boolean DEFAULT false NOT NULL,
    uuid text DEFAULT ''::text NOT NULL,
    mac text DEFAULT ''::text NOT NULL,
    serial text DEFAULT ''::text NOT NULL,
    recorder_id bigint,
    channel integer DEFAULT 0 NOT NULL,
    set_id bigint,
    version bigint DEFAULT 1 NOT NULL,
    "position" integer DEFAULT 0 NOT NULL,
    opened_set bigint,
    allow_basic boolean DEFAULT false NOT NULL,
    views integer DEFAULT 0 NOT NULL,
    tries bigint DEFAULT 0 NOT NULL,
    CONSTRAINT device_kind_check CHECK ((kind = ANY (ARRAY['camera'::text, 'recorder'::text])))
);

ALTER TABLE public.device ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.device_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.fact (
    device_id bigint NOT NULL,
    name text NOT NULL,
    value jsonb NOT NULL,
    via text NOT NULL,
    read_at timestamp with time zone NOT NULL
);

CREATE TABLE public.fact_history (
    id bigint NOT NULL,
    device_id bigint NOT NULL,
    name text NOT NULL,
    value jsonb NOT NULL,
    via text NOT NULL,
    read_at timestamp with time zone NOT NULL
);

ALTER TABLE public.fact_history ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.fact_history_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.finding (
    id bigint NOT NULL,
    source_id bigint NOT NULL,
    stage smallint NOT NULL,
    code text NOT NULL,
    severity text NOT NULL,
    words text NOT NULL,
    sentence text NOT NULL,
    way_out text NOT NULL,
    evidence jsonb NOT NULL,
    accepted boolean DEFAULT false NOT NULL
);

ALTER TABLE public.finding ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.finding_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.firmware_least (
    site_id bigint NOT NULL,
    make text NOT NULL,
    model text DEFAULT ''::text NOT NULL,
    "least" text NOT NULL
);

CREATE UNLOGGED TABLE public.gate (
    key text NOT NULL,
    left_over double precision NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL
);

CREATE TABLE public.happening (
    id bigint NOT NULL,
    site_id bigint NOT NULL,
    device_id bigint,
    at timestamp with time zone DEFAULT now() NOT NULL,
    kind text NOT NULL,
    place text NOT NULL,
    says text NOT NULL,
    CONSTRAINT happening_kind_check CHECK ((kind = ANY (ARRAY['appeared'::text, 'vanished'::text, 'moved'::text, 'firmware'::text, 'replaced'::text, 'lost'::text])))
);

ALTER TABLE public.happening ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.happening_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.invitation (
    id bigint NOT NULL,
    site_id bigint NOT NULL,
    role text NOT NULL,
    note text NOT NULL,
    hash bytea NOT NULL,
    person_id bigint,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    expires_at timestamp with time zone NOT NULL,
    used_at timestamp with time zone,
    used_by bigint,
    CONSTRAINT invitation_role_check CHECK ((role = ANY (ARRAY['lead'::text, 'technician'::text, 'viewer'::text])))
);

ALTER TABLE public.invitation ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.invitation_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.lease (
    device_id bigint NOT NULL,
    holder text NOT NULL,
    fence bigint NOT NULL,
    until timestamp with time zone NOT NULL
);

CREATE TABLE public.mark (
    source_id bigint NOT NULL,
    stage smallint NOT NULL,
    state text NOT NULL,
    words text NOT NULL,
    sentence text NOT NULL,
    inputs_version bigint NOT NULL,
    rules_version integer NOT NULL,
    valid_until timestamp with time zone,
    derived_at timestamp with time zone DEFAULT now() NOT NULL,
    site_id bigint NOT NULL,
    act text DEFAULT ''::text NOT NULL,
    changes integer DEFAULT 0 NOT NULL,
    CONSTRAINT mark_act_check CHECK ((act = ANY (ARRAY[''::text, 'read'::text, 'apply'::text, 'walk'::text]))),
    CONSTRAINT mark_stage_check CHECK (((stage >= 1) AND (stage <= 10)))
);

CREATE TABLE public.mark_count (
    site_id bigint NOT NULL,
    stage smallint NOT NULL,
    state text NOT NULL,
    act text NOT NULL,
    n integer NOT NULL,
    changes integer NOT NULL
);

CREATE TABLE public.membership (
    site_id bigint NOT NULL,
    person_id bigint NOT NULL,
    role text NOT NULL,
    CONSTRAINT membership_role_check CHECK ((role = ANY (ARRAY['lead'::text, 'technician'::text, 'viewer'::text])))
);

CREATE TABLE public.network (
    id bigint NOT NULL,
    site_id bigint NOT NULL,
    name text NOT NULL,
    prefix cidr NOT NULL,
    looked_at timestamp with time zone,
    look jsonb,
    bench boolean DEFAULT false NOT NULL
);

ALTER TABLE public.network ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.network_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.person (
    id bigint NOT NULL,
    login text NOT NULL,
    name text NOT NULL,
    password_hash text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    CONSTRAINT person_login_check CHECK (((login = lower(login)) AND ((length(login) >= 1) AND (length(login) <= 64))))
);

ALTER TABLE public.person ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.person_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.proof (
    id bigint NOT NULL,
    source_id bigint NOT NULL,
    step_id bigint,
    test jsonb NOT NULL,
    started_at timestamp with time zone NOT NULL,
    ended_at timestamp with time zone
);

ALTER TABLE public.proof ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.proof_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.river_job (
    id bigint NOT NULL,
    state public.river_job_state DEFAULT 'available'::public.river_job_state NOT NULL,
    attempt smallint DEFAULT 0 NOT NULL,
    max_attempts smallint DEFAULT 25 NOT NULL,
    attempted_at timestamp with time zone,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    finalized_at timestamp with time zone,
    scheduled_at timestamp with time zone DEFAULT now() NOT NULL,
    priority smallint DEFAULT 1 NOT NULL,
    args jsonb NOT NULL,
    attempted_by text[],
    errors jsonb[],
    kind text NOT NULL,
    metadata jsonb DEFAULT '{}'::jsonb NOT NULL,
    queue text DEFAULT 'default'::text NOT NULL,
    tags character varying(255)[] DEFAULT '{}'::character varying[] NOT NULL,
    unique_key bytea,
    unique_states bit(8),
    CONSTRAINT finalized_or_finalized_at_null CHECK ((((finalized_at IS NULL) AND (state <> ALL (ARRAY['cancelled'::public.river_job_state, 'completed'::public.river_job_state, 'discarded'::public.river_job_state]))) OR ((finalized_at IS NOT NULL) AND (state = ANY (ARRAY['cancelled'::public.river_job_state, 'completed'::public.river_job_state, 'discarded'::public.river_job_state]))))),
    CONSTRAINT kind_length CHECK (((char_length(kind) > 0) AND (char_length(kind) < 128))),
    CONSTRAINT max_attempts_is_positive CHECK ((max_attempts > 0)),
    CONSTRAINT priority_in_range CHECK (((priority >= 1) AND (priority <= 4))),
    CONSTRAINT queue_length CHECK (((char_length(queue) > 0) AND (char_length(queue) < 128)))
);

CREATE SEQUENCE public.river_job_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;

ALTER SEQUENCE public.river_job_id_seq OWNED BY public.river_job.id;

CREATE UNLOGGED TABLE public.river_leader (
    elected_at timestamp with time zone NOT NULL,
    expires_at timestamp with time zone NOT NULL,
    leader_id text NOT NULL,
    name text DEFAULT 'default'::text NOT NULL,
    CONSTRAINT leader_id_length CHECK (((char_length(leader_id) > 0) AND (char_length(leader_id) < 128))),
    CONSTRAINT name_length CHECK ((name = 'default'::text))
);

CREATE TABLE public.river_migration (
    line text NOT NULL,
    version bigint NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    CONSTRAINT line_length CHECK (((char_length(line) > 0) AND (char_length(line) < 128))),
    CONSTRAINT version_gte_1 CHECK ((version >= 1))
);

CREATE TABLE public.river_notification (
    id bigint NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    payload text NOT NULL,
    topic text NOT NULL,
    CONSTRAINT topic_length CHECK (((length(topic) > 0) AND (length(topic) < 128)))
);

CREATE SEQUENCE public.river_notification_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;

ALTER SEQUENCE public.river_notification_id_seq OWNED BY public.river_notification.id;

CREATE TABLE public.river_queue (
    name text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    metadata jsonb DEFAULT '{}'::jsonb NOT NULL,
    paused_at timestamp with time zone,
    updated_at timestamp with time zone DEFAULT CURRENT_TIMESTAMP NOT NULL
);

CREATE TABLE public.run (
    id bigint NOT NULL,
    site_id bigint NOT NULL,
    stage smallint NOT NULL,
    act text NOT NULL,
    title text NOT NULL,
    person_id bigint,
    stop boolean DEFAULT false NOT NULL,
    started_at timestamp with time zone DEFAULT now() NOT NULL,
    ended_at timestamp with time zone,
    token_id bigint,
    asked_of text DEFAULT ''::text NOT NULL,
    total integer DEFAULT 0 NOT NULL,
    done integer DEFAULT 0 NOT NULL,
    failed integer DEFAULT 0 NOT NULL,
    stopped integer DEFAULT 0 NOT NULL,
    CONSTRAINT run_act_check CHECK ((act = ANY (ARRAY['read'::text, 'apply'::text, 'prove'::text])))
);

ALTER TABLE public.run ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.run_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.run_step (
    id bigint NOT NULL,
    run_id bigint NOT NULL,
    device_id bigint,
    network_id bigint,
    state text DEFAULT 'waiting'::text NOT NULL,
    says text DEFAULT ''::text NOT NULL,
    began_at timestamp with time zone,
    ended_at timestamp with time zone,
    CONSTRAINT run_step_state_check CHECK ((state = ANY (ARRAY['waiting'::text, 'working'::text, 'done'::text, 'failed'::text, 'stopped'::text])))
);

ALTER TABLE public.run_step ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.run_step_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.schema_version (
    version integer NOT NULL
);

CREATE TABLE public.server (
    id text NOT NULL,
    began_at timestamp with time zone DEFAULT now() NOT NULL,
    heard_at timestamp with time zone DEFAULT now() NOT NULL
);

CREATE TABLE public.sessions (
    token text NOT NULL,
    data bytea NOT NULL,
    expiry timestamp with time zone NOT NULL
);

CREATE TABLE public.signin (
    id bigint NOT NULL,
    person_id bigint NOT NULL,
    address text NOT NULL,
    agent text NOT NULL,
    began_at timestamp with time zone DEFAULT now() NOT NULL,
    seen_at timestamp with time zone DEFAULT now() NOT NULL,
    ended_at timestamp with time zone
);

ALTER TABLE public.signin ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.signin_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.site (
    id bigint NOT NULL,
    name text NOT NULL,
    zone text NOT NULL,
    zone_posix text NOT NULL,
    demo boolean DEFAULT false NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    look_every integer DEFAULT 0 NOT NULL,
    look_asked_at timestamp with time zone,
    time_source text DEFAULT 'recorder'::text NOT NULL,
    at_once_network integer DEFAULT 64 NOT NULL,
    at_once_recorder integer DEFAULT 4 NOT NULL,
    CONSTRAINT site_at_once_network_check CHECK (((at_once_network >= 1) AND (at_once_network <= 256))),
    CONSTRAINT site_at_once_recorder_check CHECK (((at_once_recorder >= 1) AND (at_once_recorder <= 32))),
    CONSTRAINT site_look_every_check CHECK (((look_every >= 0) AND (look_every <= 10080)))
);

ALTER TABLE public.site ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.site_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.source (
    id bigint NOT NULL,
    device_id bigint NOT NULL,
    token text DEFAULT ''::text NOT NULL,
    name text NOT NULL,
    site_id bigint NOT NULL,
    standing text DEFAULT 'yyyyyyyyyy'::text NOT NULL,
    video text DEFAULT ''::text NOT NULL,
    judged bigint DEFAULT 0 NOT NULL
);

ALTER TABLE public.source ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.source_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.try (
    id bigint NOT NULL,
    device_id bigint NOT NULL,
    set_id bigint,
    set_name text NOT NULL,
    scheme text NOT NULL,
    outcome text DEFAULT 'pending'::text NOT NULL,
    detail text DEFAULT ''::text NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    CONSTRAINT try_outcome_check CHECK ((outcome = ANY (ARRAY['pending'::text, 'opened'::text, 'wrong'::text, 'hindered'::text, 'locked'::text])))
);

ALTER TABLE public.try ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.try_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);

CREATE TABLE public.upload (
    site_id bigint NOT NULL,
    person_id bigint NOT NULL,
    name text NOT NULL,
    lines jsonb NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL
);

ALTER TABLE ONLY public.river_job ALTER COLUMN id SET DEFAULT nextval('public.river_job_id_seq'::regclass);

ALTER TABLE ONLY public.river_notification ALTER COLUMN id SET DEFAULT nextval('public.river_notification_id_seq'::regclass);

INSERT INTO public.acceptance VALUES (3, 3, 'clock.text', 1, '2026-11-26 00:42:08.05702+00');
INSERT INTO public.acceptance VALUES (3, 4, 'stream.keys', 1, '2026-11-26 00:42:08.05702+00');

INSERT INTO public.audit OVERRIDING SYSTEM VALUE VALUES (1, 1, 1, '2026-11-26 00:42:08.05702+00', 'asked for changes', 'Clock: 1 change on 1 camera', NULL);

INSERT INTO public.change OVERRIDING SYSTEM VALUE VALUES (1, 1, 3, 2, 1, 3, 'clock.ntp', 'clock.ntp', 'Time from NTP', 'set by hand', 'NTP 127.40.2.5', '', 'none', '{"kind": "reversible"}', '{}', '{}', 'verified', '', '', 0, 1, '2026-11-26 00:42:08.05702+00', NULL, NULL, NULL, 0, NULL);
INSERT INTO public.change OVERRIDING SYSTEM VALUE VALUES (2, 1, 2, 1, 2, 5, 'channel.place', 'channel.place', 'Channel 4 of Terminal recorder', 'free', 'Ticket hall at 127.40.2.21', '', 'none', '{"kind": "reversible"}', '{"channel": "4"}', '{}', 'verified', '', '', 0, 1, '2026-11-26 00:42:08.05702+00', NULL, NULL, NULL, 0, NULL);
INSERT INTO public.change OVERRIDING SYSTEM VALUE VALUES (3, 1, 3, 2, NULL, 5, 'channel.place', 'channel.place', 'Channel 7 of Terminal recorder', 'free', 'Customs shed at 127.40.2.22', '', 'none', '{"kind": "reversible"}', '{"channel": "7"}', '{}', 'asked', '', '', 0, 1, '2026-11-26 00:42:08.05702+00', NULL, NULL, NULL, 0, NULL);

INSERT INTO public.credential_set OVERRIDING SYSTEM VALUE VALUES (1, 1, 'House account', 'otter', '\x', '', false, NULL, NULL, false);

INSERT INTO public.device OVERRIDING SYSTEM VALUE VALUES (1, 1, 'recorder', 'Terminal recorder', 'Tarnlight', 'TRN 16', '127.40.2.5', NULL, false, 'r-1', '', '', NULL, 0, 1, 5, 1, NULL, false, 0, 0);
INSERT INTO public.device OVERRIDING SYSTEM VALUE VALUES (2, 1, 'camera', 'Ticket hall', 'Pinnock & Daw', 'PND Dome 6', '127.40.2.21', '127.40.2.21', true, 'c-2', '', '', 1, 4, NULL, 9, 2, 1, false, 0, 0);
INSERT INTO public.device OVERRIDING SYSTEM VALUE VALUES (3, 1, 'camera', 'Customs shed', 'Corriemoor', 'CRM E4', '127.40.2.22', '127.40.2.22', true, 'c-3', '', '', 1, 7, NULL, 12, 3, 1, false, 2, 0);
INSERT INTO public.device OVERRIDING SYSTEM VALUE VALUES (4, 1, 'camera', 'Crew mess', 'Tarnlight', 'TRN C1', '127.40.2.26', '127.40.2.26', true, '', '', '', NULL, 0, NULL, 1, 4, NULL, false, 0, 0);

INSERT INTO public.fact VALUES (1, 'recorder.status', '{"name": "Terminal recorder", "slots": [{"name": "Ticket hall", "state": "receiving", "number": 4, "knocks": 3, "address": "127.40.2.21"}], "limits": {"codecs": ["H264"], "channels": 16}}', 'GET /api/status', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (2, 'find.seen', '{"ways": ["multicast"], "address": "127.40.2.21", "service": "http://127.40.2.21:8080/onvif/device_service"}', 'WS-Discovery', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (3, 'clock.reading', '{"offset": {"low": -400000000, "high": 400000000}}', 'GetSystemDateAndTime', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (3, 'stream.profiles', '[{"codec": "H264", "token": "p1", "width": 704, "height": 576, "source": "in1"}, {"codec": "H264", "token": "p3", "width": 704, "height": 576, "source": "in3"}]', 'GetProfiles', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (3, 'stream.measured', '[{"codec": "H264", "width": 704, "height": 576, "profile": "p1"}]', 'RTSP PLAY', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (3, 'access.looked', '{"at": "2026-11-20T10:00:00Z", "virgin": true}', 'sign-in', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (3, 'device.seat', '{"address": "127.40.2.22", "bits": 24, "automatic": false}', 'GetNetworkInterfaces', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (3, 'stream.looked', '{"at": "2026-11-20T10:00:00Z"}', 'streams', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (3, 'route.inputs', '{"pegs": [], "names": ["Event 1"]}', 'GET /api/channels/n/inputs', '2026-11-20 10:00:00+00');
INSERT INTO public.fact VALUES (3, 'camera.rules', '[]', 'GetRules', '2026-11-20 10:00:00+00');

INSERT INTO public.fact_history OVERRIDING SYSTEM VALUE VALUES (1, 3, 'clock.reading', '{"offset": {"low": -400000000, "high": 400000000}}', 'GetSystemDateAndTime', '2026-11-20 10:00:00+00');
INSERT INTO public.fact_history OVERRIDING SYSTEM VALUE VALUES (2, 3, 'stream.profiles', '[{"codec": "H264", "token": "p1", "width": 704, "height": 576, "source": "in1"}, {"codec": "H264", "token": "p3", "width": 704, "height": 576, "source": "in3"}]', 'GetProfiles', '2026-11-20 10:00:00+00');
INSERT INTO public.fact_history OVERRIDING SYSTEM VALUE VALUES (3, 3, 'stream.measured', '[{"codec": "H264", "width": 704, "height": 576, "profile": "p1"}]', 'RTSP PLAY', '2026-11-20 10:00:00+00');
INSERT INTO public.fact_history OVERRIDING SYSTEM VALUE VALUES (4, 3, 'stream.looked', '{"at": "2026-11-20T10:00:00Z"}', 'streams', '2026-11-20 10:00:00+00');
INSERT INTO public.fact_history OVERRIDING SYSTEM VALUE VALUES (5, 3, 'route.inputs', '{"pegs": [], "names": ["Event 1"]}', 'GET /api/channels/n/inputs', '2026-11-20 10:00:00+00');
INSERT INTO public.fact_history OVERRIDING SYSTEM VALUE VALUES (6, 3, 'camera.rules', '[]', 'GetRules', '2026-11-20 10:00:00+00');

INSERT INTO public.finding OVERRIDING SYSTEM VALUE VALUES (1, 2, 3, 'clock.text', 'needs', 'date order', 'It burns in month-day-year.', 'Set it.', '[]', false);

INSERT INTO public.happening OVERRIDING SYSTEM VALUE VALUES (1, 1, 4, '2026-11-26 00:42:08.05702+00', 'vanished', 'Crew mess', 'It no longer answers.');

INSERT INTO public.lease VALUES (3, 'host/1/1', 4, '2026-11-26 00:42:08.05702+00');

INSERT INTO public.mark VALUES (1, 1, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 1, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 1, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 2, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 2, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 2, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 3, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 3, 'needs', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, 'apply', 1);
INSERT INTO public.mark VALUES (4, 3, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 4, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 4, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 4, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 5, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 5, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 5, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 6, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 6, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 6, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 7, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 7, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 7, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 8, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 8, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 8, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 9, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 9, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 9, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (1, 10, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (2, 10, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);
INSERT INTO public.mark VALUES (4, 10, 'ready', '', 'So it stood.', 12, 3, NULL, '2026-11-26 00:42:08.05702+00', 1, '', 0);

INSERT INTO public.mark_count VALUES (1, 1, 'ready', '', 3, 0);
INSERT INTO public.mark_count VALUES (1, 2, 'ready', '', 3, 0);
INSERT INTO public.mark_count VALUES (1, 3, 'needs', 'apply', 1, 1);
INSERT INTO public.mark_count VALUES (1, 3, 'ready', '', 2, 0);
INSERT INTO public.mark_count VALUES (1, 4, 'ready', '', 3, 0);
INSERT INTO public.mark_count VALUES (1, 5, 'ready', '', 3, 0);
INSERT INTO public.mark_count VALUES (1, 6, 'ready', '', 3, 0);
INSERT INTO public.mark_count VALUES (1, 7, 'ready', '', 3, 0);
INSERT INTO public.mark_count VALUES (1, 8, 'ready', '', 3, 0);
INSERT INTO public.mark_count VALUES (1, 9, 'ready', '', 3, 0);
INSERT INTO public.mark_count VALUES (1, 10, 'ready', '', 3, 0);

INSERT INTO public.membership VALUES (1, 1, 'lead');

INSERT INTO public.network OVERRIDING SYSTEM VALUE VALUES (1, 1, 'terminal', '127.40.2.0/24', NULL, NULL, false);

INSERT INTO public.person OVERRIDING SYSTEM VALUE VALUES (1, 'maren', 'Maren Ostby', 'none', '2026-11-26 00:42:08.05702+00');

INSERT INTO public.proof OVERRIDING SYSTEM VALUE VALUES (1, 1, NULL, '{"topic": "tns1:RuleEngine/LineDetector/Crossed"}', '2026-11-26 00:42:08.05702+00', '2026-11-26 00:42:08.05702+00');

INSERT INTO public.river_migration VALUES ('main', 1, '2026-11-26 00:42:07.804539+00');
INSERT INTO public.river_migration VALUES ('main', 2, '2026-11-26 00:42:07.812467+00');
INSERT INTO public.river_migration VALUES ('main', 3, '2026-11-26 00:42:07.836363+00');
INSERT INTO public.river_migration VALUES ('main', 4, '2026-11-26 00:42:07.838589+00');
INSERT INTO public.river_migration VALUES ('main', 5, '2026-11-26 00:42:07.846657+00');
INSERT INTO public.river_migration VALUES ('main', 6, '2026-11-26 00:42:07.870389+00');
INSERT INTO public.river_migration VALUES ('main', 7, '2026-11-26 00:42:07.87765+00');
INSERT INTO public.river_migration VALUES ('main', 8, '2026-11-26 00:42:07.976399+00');

INSERT INTO public.run OVERRIDING SYSTEM VALUE VALUES (1, 1, 3, 'apply', 'Clock: 1 change on 1 camera', 1, false, '2026-11-26 00:42:08.05702+00', '2026-11-26 00:42:08.05702+00', NULL, '', 1, 1, 0, 0);
INSERT INTO public.run OVERRIDING SYSTEM VALUE VALUES (2, 1, 5, 'apply', 'Channels: 1 change on 1 camera', 1, false, '2026-11-26 00:42:08.05702+00', '2026-11-26 00:42:08.05702+00', NULL, '', 1, 1, 0, 0);
INSERT INTO public.run OVERRIDING SYSTEM VALUE VALUES (3, 1, 4, 'read', 'Read Streams of 1 device', 1, false, '2026-11-26 00:42:08.05702+00', NULL, NULL, '', 1, 0, 0, 0);

INSERT INTO public.run_step OVERRIDING SYSTEM VALUE VALUES (1, 1, 3, NULL, 'done', '', '2026-11-26 00:42:08.05702+00', '2026-11-26 00:42:08.05702+00');
INSERT INTO public.run_step OVERRIDING SYSTEM VALUE VALUES (2, 2, 2, NULL, 'done', '', '2026-11-26 00:42:08.05702+00', '2026-11-26 00:42:08.05702+00');
INSERT INTO public.run_step OVERRIDING SYSTEM VALUE VALUES (3, 3, 3, NULL, 'waiting', '', NULL, NULL);

INSERT INTO public.schema_version VALUES (6);

INSERT INTO public.site OVERRIDING SYSTEM VALUE VALUES (1, 'Gannet Point Ferry Terminal', 'Europe/Lisbon', 'WET0WEST,M3.5.0/1,M10.5.0', false, '2026-11-26 00:42:08.05702+00', 0, NULL, 'recorder', 64, 4);

INSERT INTO public.source OVERRIDING SYSTEM VALUE VALUES (3, 3, 'in3', 'Customs shed · Input 3', 1, 'yyyyyyyyyy', 'in3', 0);
INSERT INTO public.source OVERRIDING SYSTEM VALUE VALUES (1, 2, '', 'Ticket hall', 1, 'rrrrrrrrrr', '', 0);
INSERT INTO public.source OVERRIDING SYSTEM VALUE VALUES (2, 3, '', 'Customs shed', 1, 'rrnrrrrrrr', 'in1', 0);
INSERT INTO public.source OVERRIDING SYSTEM VALUE VALUES (4, 4, '', 'Crew mess', 1, 'rrrrrrrrrr', '', 0);

INSERT INTO public.try OVERRIDING SYSTEM VALUE VALUES (1, 2, 1, 'House account', 'Digest', 'opened', '', '2026-11-26 00:42:08.05702+00');

SELECT pg_catalog.setval('public.api_token_id_seq', 1, false);

SELECT pg_catalog.setval('public.audit_id_seq', 1, true);

SELECT pg_catalog.setval('public.change_id_seq', 3, true);

SELECT pg_catalog.setval('public.credential_set_id_seq', 1, true);

SELECT pg_catalog.setval('public.device_id_seq', 4, true);

SELECT pg_catalog.setval('public.fact_history_id_seq', 6, true);

SELECT pg_catalog.setval('public.finding_id_seq', 1, true);

SELECT pg_catalog.setval('public.happening_id_seq', 1, true);

SELECT pg_catalog.setval('public.invitation_id_seq', 1, false);

SELECT pg_catalog.setval('public.network_id_seq', 1, true);

SELECT pg_catalog.setval('public.person_id_seq', 1, true);

SELECT pg_catalog.setval('public.proof_id_seq', 1, true);

SELECT pg_catalog.setval('public.river_job_id_seq', 1, false);

SELECT pg_catalog.setval('public.river_notification_id_seq', 1, false);

SELECT pg_catalog.setval('public.run_id_seq', 3, true);

SELECT pg_catalog.setval('public.run_step_id_seq', 3, true);

SELECT pg_catalog.setval('public.signin_id_seq', 1, false);

SELECT pg_catalog.setval('public.site_id_seq', 1, true);

SELECT pg_catalog.setval('public.source_id_seq', 4, true);

SELECT pg_catalog.setval('public.try_id_seq', 1, true);

ALTER TABLE ONLY public.acceptance
    ADD CONSTRAINT acceptance_pkey PRIMARY KEY (device_id, stage, code);

ALTER TABLE ONLY public.api_token
    ADD CONSTRAINT api_token_hash_key UNIQUE (hash);

ALTER TABLE ONLY public.api_token
    ADD CONSTRAINT api_token_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.audit
    ADD CONSTRAINT audit_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.change
    ADD CONSTRAINT change_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.claim
    ADD CONSTRAINT claim_pkey PRIMARY KEY (scope, slot);

ALTER TABLE ONLY public.credential_set
    ADD CONSTRAINT credential_set_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.credential_set
    ADD CONSTRAINT credential_set_site_id_name_key UNIQUE (site_id, name);

ALTER TABLE ONLY public.device
    ADD CONSTRAINT device_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.fact_history
    ADD CONSTRAINT fact_history_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.fact
    ADD CONSTRAINT fact_pkey PRIMARY KEY (device_id, name);

ALTER TABLE ONLY public.finding
    ADD CONSTRAINT finding_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.firmware_least
    ADD CONSTRAINT firmware_least_pkey PRIMARY KEY (site_id, make, model);

ALTER TABLE ONLY public.gate
    ADD CONSTRAINT gate_pkey PRIMARY KEY (key);

ALTER TABLE ONLY public.happening
    ADD CONSTRAINT happening_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.invitation
    ADD CONSTRAINT invitation_hash_key UNIQUE (hash);

ALTER TABLE ONLY public.invitation
    ADD CONSTRAINT invitation_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.lease
    ADD CONSTRAINT lease_pkey PRIMARY KEY (device_id);

ALTER TABLE ONLY public.mark_count
    ADD CONSTRAINT mark_count_pkey PRIMARY KEY (site_id, stage, state, act);

ALTER TABLE ONLY public.mark
    ADD CONSTRAINT mark_pkey PRIMARY KEY (source_id, stage);

ALTER TABLE ONLY public.membership
    ADD CONSTRAINT membership_pkey PRIMARY KEY (site_id, person_id);

ALTER TABLE ONLY public.network
    ADD CONSTRAINT network_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.network
    ADD CONSTRAINT network_site_id_prefix_key UNIQUE (site_id, prefix);

ALTER TABLE ONLY public.person
    ADD CONSTRAINT person_login_key UNIQUE (login);

ALTER TABLE ONLY public.person
    ADD CONSTRAINT person_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.proof
    ADD CONSTRAINT proof_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.river_job
    ADD CONSTRAINT river_job_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.river_leader
    ADD CONSTRAINT river_leader_pkey PRIMARY KEY (name);

ALTER TABLE ONLY public.river_migration
    ADD CONSTRAINT river_migration_pkey1 PRIMARY KEY (line, version);

ALTER TABLE ONLY public.river_notification
    ADD CONSTRAINT river_notification_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.river_queue
    ADD CONSTRAINT river_queue_pkey PRIMARY KEY (name);

ALTER TABLE ONLY public.run
    ADD CONSTRAINT run_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.run_step
    ADD CONSTRAINT run_step_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.server
    ADD CONSTRAINT server_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.sessions
    ADD CONSTRAINT sessions_pkey PRIMARY KEY (token);

ALTER TABLE ONLY public.signin
    ADD CONSTRAINT signin_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.site
    ADD CONSTRAINT site_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.source
    ADD CONSTRAINT source_device_id_token_key UNIQUE (device_id, token);

ALTER TABLE ONLY public.source
    ADD CONSTRAINT source_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.try
    ADD CONSTRAINT try_pkey PRIMARY KEY (id);

ALTER TABLE ONLY public.upload
    ADD CONSTRAINT upload_pkey PRIMARY KEY (site_id, person_id);

CREATE INDEX api_token_site_id_idx ON public.api_token USING btree (site_id);

CREATE INDEX audit_person_id_at_id_idx ON public.audit USING btree (person_id, at DESC, id DESC) WHERE (site_id IS NULL);

CREATE INDEX audit_site_id_at_idx ON public.audit USING btree (site_id, at DESC);

CREATE INDEX change_device_id_asked_at_idx ON public.change USING btree (device_id, asked_at DESC);

CREATE UNIQUE INDEX change_device_id_key_idx ON public.change USING btree (device_id, key) WHERE (state = ANY (ARRAY['asked'::text, 'sent'::text, 'read back'::text]));

CREATE INDEX change_site_id_asked_at_idx ON public.change USING btree (site_id, asked_at DESC);

CREATE INDEX change_source_id_idx ON public.change USING btree (source_id) WHERE (source_id IS NOT NULL);

CREATE INDEX change_step_id_idx ON public.change USING btree (step_id);

CREATE INDEX change_undo_of_idx ON public.change USING btree (undo_of) WHERE (undo_of IS NOT NULL);

CREATE INDEX claim_holder_idx ON public.claim USING btree (holder);

CREATE INDEX credential_set_device_id_idx ON public.credential_set USING btree (device_id) WHERE (device_id IS NOT NULL);

CREATE INDEX credential_set_site_id_idx ON public.credential_set USING btree (site_id) WHERE (device_id IS NULL);

CREATE INDEX device_recorder_id_idx ON public.device USING btree (recorder_id);

CREATE INDEX device_site_id_address_idx ON public.device USING btree (site_id, address);

CREATE INDEX device_site_id_idx ON public.device USING btree (site_id) WHERE (kind = 'recorder'::text);

CREATE INDEX device_site_id_kind_idx ON public.device USING btree (site_id, kind);

CREATE INDEX device_site_id_make_idx ON public.device USING btree (site_id, make) WHERE (opened_set IS NOT NULL);

CREATE INDEX device_site_id_position_id_idx ON public.device USING btree (site_id, "position", id);

CREATE INDEX fact_history_device_id_name_read_at_idx ON public.fact_history USING btree (device_id, name, read_at);

CREATE INDEX fact_name_device_id_idx ON public.fact USING btree (name, device_id);

CREATE INDEX finding_source_id_stage_idx ON public.finding USING btree (source_id, stage);

CREATE INDEX happening_device_id_idx ON public.happening USING btree (device_id) WHERE (device_id IS NOT NULL);

CREATE INDEX happening_site_id_at_idx ON public.happening USING btree (site_id, at DESC);

CREATE INDEX invitation_site_id_idx ON public.invitation USING btree (site_id);

CREATE INDEX mark_rules_version_idx ON public.mark USING btree (rules_version);

CREATE INDEX mark_site_id_stage_act_idx ON public.mark USING btree (site_id, stage, act) WHERE (act <> ''::text);

CREATE INDEX mark_valid_until_idx ON public.mark USING btree (valid_until) WHERE (valid_until IS NOT NULL);

CREATE INDEX proof_source_id_started_at_idx ON public.proof USING btree (source_id, started_at DESC);

CREATE INDEX proof_step_id_idx ON public.proof USING btree (step_id) WHERE (step_id IS NOT NULL);

CREATE INDEX river_job_args_index ON public.river_job USING gin (args);

CREATE INDEX river_job_kind ON public.river_job USING btree (kind);

CREATE INDEX river_job_metadata_index ON public.river_job USING gin (metadata);

CREATE INDEX river_job_prioritized_fetching_index ON public.river_job USING btree (state, queue, priority, scheduled_at, id);

CREATE INDEX river_job_state_and_finalized_at_index ON public.river_job USING btree (state, finalized_at) WHERE (finalized_at IS NOT NULL);

CREATE UNIQUE INDEX river_job_unique_idx ON public.river_job USING btree (unique_key) WHERE ((unique_key IS NOT NULL) AND (unique_states IS NOT NULL) AND public.river_job_state_in_bitmask(unique_states, state));

CREATE INDEX river_notification_created_at_idx ON public.river_notification USING btree (created_at);

CREATE INDEX river_notification_topic_id_idx ON public.river_notification USING btree (topic, id);

CREATE INDEX run_site_id_started_at_idx ON public.run USING btree (site_id, started_at DESC);

CREATE INDEX run_step_device_id_idx ON public.run_step USING btree (device_id);

CREATE INDEX run_step_run_id_idx ON public.run_step USING btree (run_id);

CREATE INDEX run_step_run_id_idx1 ON public.run_step USING btree (run_id) WHERE (state = ANY (ARRAY['waiting'::text, 'working'::text]));

CREATE INDEX sessions_expiry_idx ON public.sessions USING btree (expiry);

CREATE INDEX signin_person_id_idx ON public.signin USING btree (person_id) WHERE (ended_at IS NULL);

CREATE INDEX source_site_id_idx ON public.source USING btree (site_id);

CREATE INDEX try_device_id_at_idx ON public.try USING btree (device_id, at);

CREATE TRIGGER mark_deleted AFTER DELETE ON public.mark REFERENCING OLD TABLE AS old_marks FOR EACH STATEMENT EXECUTE FUNCTION public.mark_changed();

CREATE TRIGGER mark_inserted AFTER INSERT ON public.mark REFERENCING NEW TABLE AS new_marks FOR EACH STATEMENT EXECUTE FUNCTION public.mark_changed();

CREATE TRIGGER mark_updated AFTER UPDATE ON public.mark REFERENCING OLD TABLE AS old_marks NEW TABLE AS new_marks FOR EACH STATEMENT EXECUTE FUNCTION public.mark_changed();

ALTER TABLE ONLY public.acceptance
    ADD CONSTRAINT acceptance_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.acceptance
    ADD CONSTRAINT acceptance_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id);

ALTER TABLE ONLY public.api_token
    ADD CONSTRAINT api_token_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id);

ALTER TABLE ONLY public.api_token
    ADD CONSTRAINT api_token_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.audit
    ADD CONSTRAINT audit_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id);

ALTER TABLE ONLY public.audit
    ADD CONSTRAINT audit_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.audit
    ADD CONSTRAINT audit_token_id_fkey FOREIGN KEY (token_id) REFERENCES public.api_token(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.change
    ADD CONSTRAINT change_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.change
    ADD CONSTRAINT change_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id);

ALTER TABLE ONLY public.change
    ADD CONSTRAINT change_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.change
    ADD CONSTRAINT change_source_id_fkey FOREIGN KEY (source_id) REFERENCES public.source(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.change
    ADD CONSTRAINT change_step_id_fkey FOREIGN KEY (step_id) REFERENCES public.run_step(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.change
    ADD CONSTRAINT change_token_id_fkey FOREIGN KEY (token_id) REFERENCES public.api_token(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.change
    ADD CONSTRAINT change_undo_of_fkey FOREIGN KEY (undo_of) REFERENCES public.change(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.credential_set
    ADD CONSTRAINT credential_set_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.credential_set
    ADD CONSTRAINT credential_set_network_id_fkey FOREIGN KEY (network_id) REFERENCES public.network(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.credential_set
    ADD CONSTRAINT credential_set_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.device
    ADD CONSTRAINT device_opened_set_fkey FOREIGN KEY (opened_set) REFERENCES public.credential_set(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.device
    ADD CONSTRAINT device_recorder_id_fkey FOREIGN KEY (recorder_id) REFERENCES public.device(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.device
    ADD CONSTRAINT device_set_id_fkey FOREIGN KEY (set_id) REFERENCES public.credential_set(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.device
    ADD CONSTRAINT device_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.fact
    ADD CONSTRAINT fact_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.fact_history
    ADD CONSTRAINT fact_history_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.finding
    ADD CONSTRAINT finding_source_id_fkey FOREIGN KEY (source_id) REFERENCES public.source(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.firmware_least
    ADD CONSTRAINT firmware_least_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.happening
    ADD CONSTRAINT happening_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.happening
    ADD CONSTRAINT happening_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.invitation
    ADD CONSTRAINT invitation_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id);

ALTER TABLE ONLY public.invitation
    ADD CONSTRAINT invitation_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.invitation
    ADD CONSTRAINT invitation_used_by_fkey FOREIGN KEY (used_by) REFERENCES public.person(id);

ALTER TABLE ONLY public.lease
    ADD CONSTRAINT lease_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.mark_count
    ADD CONSTRAINT mark_count_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.mark
    ADD CONSTRAINT mark_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.mark
    ADD CONSTRAINT mark_source_id_fkey FOREIGN KEY (source_id) REFERENCES public.source(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.membership
    ADD CONSTRAINT membership_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.membership
    ADD CONSTRAINT membership_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.network
    ADD CONSTRAINT network_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.proof
    ADD CONSTRAINT proof_source_id_fkey FOREIGN KEY (source_id) REFERENCES public.source(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.proof
    ADD CONSTRAINT proof_step_id_fkey FOREIGN KEY (step_id) REFERENCES public.run_step(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.run
    ADD CONSTRAINT run_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id);

ALTER TABLE ONLY public.run
    ADD CONSTRAINT run_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.run_step
    ADD CONSTRAINT run_step_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.run_step
    ADD CONSTRAINT run_step_network_id_fkey FOREIGN KEY (network_id) REFERENCES public.network(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.run_step
    ADD CONSTRAINT run_step_run_id_fkey FOREIGN KEY (run_id) REFERENCES public.run(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.run
    ADD CONSTRAINT run_token_id_fkey FOREIGN KEY (token_id) REFERENCES public.api_token(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.signin
    ADD CONSTRAINT signin_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.source
    ADD CONSTRAINT source_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.source
    ADD CONSTRAINT source_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.try
    ADD CONSTRAINT try_device_id_fkey FOREIGN KEY (device_id) REFERENCES public.device(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.try
    ADD CONSTRAINT try_set_id_fkey FOREIGN KEY (set_id) REFERENCES public.credential_set(id) ON DELETE SET NULL;

ALTER TABLE ONLY public.upload
    ADD CONSTRAINT upload_person_id_fkey FOREIGN KEY (person_id) REFERENCES public.person(id) ON DELETE CASCADE;

ALTER TABLE ONLY public.upload
    ADD CONSTRAINT upload_site_id_fkey FOREIGN KEY (site_id) REFERENCES public.site(id) ON DELETE CASCADE;

