"""The tables of a crew's database, and what the database itself sees to: PostgreSQL 13 or later.

Members append, the office reads, and nobody changes or removes a line: that is said by grants and triggers, so that it
holds for whoever comes with SQL of their own. The database knows its members by their logins. It checks the hash and
the predecessor of every line, so that what does not follow is never handed on. Whether the member itself wrote it is
shown by the seals, which each laptop checks, because the owner of a database can change anything in it.
"""

SCHEMA = "askport"

_FIRST = """
CREATE SCHEMA askport;
CREATE TABLE askport.crew (
    one integer PRIMARY KEY DEFAULT 1 CHECK (one = 1), id text NOT NULL, epoch text NOT NULL, site text NOT NULL,
    version integer NOT NULL
);
CREATE TABLE askport.members (
    name text PRIMARY KEY CHECK (name <> ''), login text NOT NULL, key text NOT NULL CHECK (key ~ '^[0-9a-f]{64}$'),
    joined timestamptz NOT NULL DEFAULT now(), removed timestamptz
);
CREATE TABLE askport.pushes (
    number bigint PRIMARY KEY, member text NOT NULL REFERENCES askport.members, head text NOT NULL,
    place integer NOT NULL, signature text NOT NULL, at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE askport.lines (
    hash text PRIMARY KEY, push bigint NOT NULL REFERENCES askport.pushes, member text NOT NULL, place integer NOT NULL,
    before text NOT NULL, at text NOT NULL, body text NOT NULL
);
CREATE INDEX lines_by_push ON askport.lines (push, place);
CREATE INDEX lines_by_member ON askport.lines (member);
CREATE TABLE askport.captures (
    sha256 text PRIMARY KEY, pcapng bytea NOT NULL CHECK (encode(sha256(pcapng), 'hex') = sha256)
);

CREATE FUNCTION askport.is_owner() RETURNS boolean LANGUAGE sql STABLE SECURITY DEFINER AS $$
    SELECT pg_has_role(session_user, relowner, 'MEMBER') FROM pg_class WHERE oid = 'askport.crew'::regclass
$$;
CREATE FUNCTION askport.own(member text) RETURNS boolean LANGUAGE sql STABLE SECURITY DEFINER AS $$
    SELECT EXISTS (SELECT 1 FROM members WHERE name = member AND login = session_user AND removed IS NULL) OR is_owner()
$$;

CREATE FUNCTION askport.check_member() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $$
BEGIN
    IF NOT is_owner() THEN
        NEW.login := session_user; NEW.joined := now(); NEW.removed := NULL;
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER check_member BEFORE INSERT ON askport.members FOR EACH ROW EXECUTE FUNCTION askport.check_member();

CREATE FUNCTION askport.check_push() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $$
BEGIN
    IF NOT own(NEW.member) THEN
        RAISE EXCEPTION '% is no member that % may push for', NEW.member, session_user USING ERRCODE = '42501';
    END IF;
    -- One push after the other: whoever has read one number has read all that are smaller.
    PERFORM 1 FROM crew FOR UPDATE;  -- which nobody else may lock
    NEW.number := (SELECT coalesce(max(number), 0) + 1 FROM pushes);
    NEW.at := now();
    PERFORM pg_notify('askport', 'push ' || NEW.number);
    RETURN NEW;
END $$;
CREATE TRIGGER check_push BEFORE INSERT ON askport.pushes FOR EACH ROW EXECUTE FUNCTION askport.check_push();

CREATE FUNCTION askport.check_line() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS $$
DECLARE
    last_place integer := 0;
    last_member text;
BEGIN
    -- A line comes with the push that its member makes now: nothing is added to one that others have read.
    PERFORM 1 FROM pushes WHERE number = NEW.push AND member = NEW.member AND xmin = pg_current_xact_id()::xid;
    IF NOT FOUND THEN
        RAISE EXCEPTION 'a line comes with a push of its own member' USING ERRCODE = '42501';
    END IF;
    IF NEW.hash <> encode(sha256(convert_to(
        NEW.before || E'\\n' || NEW.place || E'\\n' || NEW.at || E'\\n' || NEW.body, 'UTF8')), 'hex') THEN
        RAISE EXCEPTION 'the hash of line % is not that of its text', NEW.place USING ERRCODE = '23514';
    END IF;
    IF NEW.before <> '' THEN
        SELECT place, member INTO last_place, last_member FROM lines WHERE hash = NEW.before;
        IF NOT FOUND THEN
            RAISE EXCEPTION 'the line before line % is missing', NEW.place USING ERRCODE = '23503';
        END IF;
    END IF;
    IF NEW.place <> last_place + 1 THEN
        RAISE EXCEPTION 'line % does not follow line %', NEW.place, last_place USING ERRCODE = '23514';
    END IF;
    -- A strand goes on from its member's own lines; it begins, or joins others, anywhere.
    IF last_member <> NEW.member AND NEW.body NOT LIKE '%"kind":"joined"%' AND NOT is_owner()
        AND EXISTS (SELECT 1 FROM lines WHERE member = NEW.member AND push <> NEW.push) THEN
        RAISE EXCEPTION 'line % is on a strand of %', NEW.place, last_member USING ERRCODE = '42501';
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER check_line BEFORE INSERT ON askport.lines FOR EACH ROW EXECUTE FUNCTION askport.check_line();

CREATE FUNCTION askport.leave(member text) RETURNS void
LANGUAGE plpgsql SECURITY DEFINER AS $$
BEGIN
    IF NOT own(member) THEN
        RAISE EXCEPTION '% is not yours', member USING ERRCODE = '42501';
    END IF;
    UPDATE members SET removed = now() WHERE name = member AND removed IS NULL;
END $$;
"""

_CLAIMS = """
CREATE TABLE askport.claims (
    what text PRIMARY KEY, member text NOT NULL REFERENCES askport.members, since timestamptz NOT NULL,
    until timestamptz NOT NULL
);
CREATE TABLE askport.blocks (
    address inet PRIMARY KEY, member text NOT NULL REFERENCES askport.members, since timestamptz NOT NULL DEFAULT now()
);
CREATE FUNCTION askport.claim(wanted text[], as_member text, seconds integer) RETURNS SETOF askport.claims
LANGUAGE plpgsql SECURITY DEFINER AS $$
DECLARE
    ends timestamptz := now() + make_interval(secs => least(seconds, 86400));
    gone integer;
    come integer;
BEGIN
    IF NOT own(as_member) THEN
        RAISE EXCEPTION '% is no member that % may claim for', as_member, session_user USING ERRCODE = '42501';
    END IF;
    DELETE FROM claims WHERE until < now() OR (member = as_member AND what <> ALL (wanted));
    GET DIAGNOSTICS gone = ROW_COUNT;
    UPDATE claims SET until = ends WHERE member = as_member;
    INSERT INTO claims SELECT each, as_member, now(), ends FROM unnest(wanted) AS each ON CONFLICT DO NOTHING;
    GET DIAGNOSTICS come = ROW_COUNT;
    IF gone + come > 0 THEN  -- what is only renewed is no news
        PERFORM pg_notify('askport', 'claims');
    END IF;
    RETURN QUERY SELECT * FROM claims WHERE what = ANY (wanted);
END $$;
CREATE FUNCTION askport.deal(wanted inet[], as_member text) RETURNS SETOF inet
LANGUAGE plpgsql SECURITY DEFINER AS $$
BEGIN
    IF NOT own(as_member) THEN
        RAISE EXCEPTION '% is no member that % may take addresses for', as_member, session_user USING ERRCODE = '42501';
    END IF;
    RETURN QUERY INSERT INTO blocks SELECT each, as_member FROM unnest(wanted) AS each
        ON CONFLICT DO NOTHING RETURNING address;
END $$;
CREATE OR REPLACE FUNCTION askport.leave(member text) RETURNS void
LANGUAGE plpgsql SECURITY DEFINER AS $$
BEGIN
    IF NOT own(member) THEN
        RAISE EXCEPTION '% is not yours', member USING ERRCODE = '42501';
    END IF;
    UPDATE members SET removed = now() WHERE name = leave.member AND removed IS NULL;
    DELETE FROM claims WHERE claims.member = leave.member;
    DELETE FROM blocks WHERE blocks.member = leave.member;
    PERFORM pg_notify('askport', 'claims');
END $$;
"""

LET_IN = "The owner of the database lets a login in with GRANT; 'askport crew create' on it shows how."
_LIMITS = """
ALTER TABLE askport.lines ADD CHECK (length(body) <= 16000000), ADD CHECK (length(at) <= 40);
ALTER TABLE askport.blocks ADD CHECK (family(address) = 4 AND masklen(address) = 32);
ALTER TABLE askport.members ADD CHECK (name = btrim(name) AND length(name) <= 60 AND name ~ '^[[:print:]]+$'
    AND name !~ '[\u200b-\u200f\u2028-\u202e\u2060-\u2064\ufeff]');
CREATE UNIQUE INDEX members_by_name ON askport.members (lower(name));
ALTER TABLE askport.claims ADD CHECK (length(what) <= 200);
ALTER TABLE askport.captures ADD CHECK (length(pcapng) <= 4000000);
"""

MIGRATIONS = (_FIRST, _CLAIMS, _LIMITS)
"""In their order; a database's version is how many of them it has had."""
VERSION = len(MIGRATIONS)

GRANTS = """
REVOKE ALL ON SCHEMA askport FROM PUBLIC;
REVOKE ALL ON ALL TABLES IN SCHEMA askport FROM PUBLIC;
GRANT USAGE ON SCHEMA askport TO {member}, {office}, {functions};
GRANT SELECT ON ALL TABLES IN SCHEMA askport TO {member}, {office}, {functions};
GRANT INSERT (name, key) ON askport.members TO {member};
GRANT INSERT ON askport.pushes, askport.lines, askport.captures TO {member};
GRANT UPDATE (removed) ON askport.members TO {functions};
GRANT UPDATE (one) ON askport.crew TO {functions};
GRANT CREATE ON SCHEMA askport TO {functions};
DO $each$
DECLARE
    name regprocedure;
BEGIN
    FOR name IN SELECT oid FROM pg_proc WHERE pronamespace = 'askport'::regnamespace LOOP
        EXECUTE format('ALTER FUNCTION %s SET search_path = pg_catalog, askport, pg_temp', name);
        EXECUTE format('ALTER FUNCTION %s OWNER TO %I', name, {functions_text});
        EXECUTE format('REVOKE ALL ON FUNCTION %s FROM PUBLIC', name);
        EXECUTE format('GRANT EXECUTE ON FUNCTION %s TO %I', name, {member_text});
    END LOOP;
    IF to_regclass('askport.claims') IS NOT NULL THEN
        GRANT INSERT, UPDATE, DELETE ON askport.claims TO {functions};
        GRANT INSERT, DELETE ON askport.blocks TO {functions};
    END IF;
END $each$;
REVOKE CREATE ON SCHEMA askport FROM {functions};
REVOKE {functions} FROM CURRENT_USER;
"""
"""Given anew after every migration. Functions do what their callers may not, as a role that may do nothing else and
that nobody is. What a caller has in tables of its own (``pg_temp``) is looked into last, and never called."""
