-- One of everything that a PostgreSQL database of the observatory could hold.
CREATE EXTENSION citext;
CREATE EXTENSION hstore;
CREATE SCHEMA observatory;
CREATE SCHEMA "odd schema.";
COMMENT ON SCHEMA public IS 'where most of it lies';

CREATE TYPE mood AS ENUM ('clear', 'hazy', 'it''s \ raining', 'größer');
COMMENT ON TYPE mood IS 'how the sky feels';
CREATE TYPE observatory.position AS (ra double precision, "dec" numeric(10,4), note text COLLATE "C");
COMMENT ON COLUMN observatory.position.ra IS 'in hours';
CREATE DOMAIN web_address AS text DEFAULT 'http://glimmerpoint.example/' NOT NULL
  CONSTRAINT looks_right CHECK (VALUE ~ '^https?://');
CREATE DOMAIN observatory.brightness AS numeric(4,2) CHECK (VALUE < 30);
CREATE TYPE hours AS RANGE (SUBTYPE = float8, SUBTYPE_DIFF = float8mi);
CREATE COLLATION german (provider = icu, locale = 'de-u-co-phonebk', deterministic = false);

CREATE FUNCTION is_dark(hour double precision) RETURNS boolean LANGUAGE sql IMMUTABLE
  AS $$ SELECT hour > 20 OR hour < 5 -- a ; in a comment
  $$;
CREATE FUNCTION slug(title text) RETURNS text LANGUAGE plpgsql IMMUTABLE STRICT AS $body$
BEGIN
  RETURN lower(regexp_replace(title, '[^a-z]+', '-', 'gi'));
END;
$body$;
CREATE FUNCTION slug(number integer, OUT a text, OUT b text) LANGUAGE sql AS 'SELECT ''n'', $1::text';
CREATE AGGREGATE longest(text) (SFUNC = textcat, STYPE = text, INITCOND = '');
COMMENT ON AGGREGATE longest(text) IS 'joins, in truth';
COMMENT ON FUNCTION slug(text) IS 'for addresses';

CREATE SEQUENCE tickets AS smallint INCREMENT BY -3 MINVALUE -300 MAXVALUE 300 START WITH 30 CYCLE CACHE 5;
SELECT nextval('tickets');
CREATE SEQUENCE untouched;
CREATE SEQUENCE placed; SELECT setval('placed', 77, false);

CREATE TABLE kinds (
  id bigserial PRIMARY KEY,
  small smallint, whole integer, big bigint, exact numeric, fixed numeric(30,10),
  single real, wide double precision, cash money,
  yes boolean, letter "char", fixed_text char(5), short varchar(20), long text, folded citext,
  bytes bytea, day date, clock time(3), clock_zone timetz, moment timestamp, zoned timestamptz(6), span interval,
  ident uuid, net inet, block cidr, mac macaddr, bits bit(5), more_bits bit varying(9),
  doc json, doc_binary jsonb, path jsonpath, tree xml, pairs hstore, words tsvector, query tsquery,
  spot point, line_of line, piece lseg, box_of box, way path, shape polygon, ring circle,
  sky mood, skies mood[], place observatory.position, places observatory.position[], home web_address, mag observatory.brightness,
  names text[], grid integer[][], days daterange, nums int4multirange, open hours, log_pos pg_lsn, obj oid
);
COMMENT ON TABLE kinds IS 'every type; with a '' quote';
COMMENT ON COLUMN kinds.exact IS E'a\nline';
INSERT INTO kinds (small, whole, big, exact, fixed, single, wide, cash, yes, letter, fixed_text, short, long, folded,
  bytes, day, clock, clock_zone, moment, zoned, span, ident, net, block, mac, bits, more_bits, doc, doc_binary, path, tree, pairs,
  words, query, spot, line_of, piece, box_of, way, shape, ring, sky, skies, place, places, home, mag, names, grid, days, nums, open, log_pos, obj)
VALUES (-32768, 2147483647, -9223372036854775808, 'NaN', 12345678901234567890.0123456789, '-Infinity', 0.1, 12.5, true, 'x', 'ab', '', E'tab\tline\nreturn\rback\\slash \\. \\N', 'HeLLo',
  '\x0001ff5c0a', '0044-03-15 BC', '23:59:59.999', '12:00+05:30', 'infinity', '2026-11-23 12:34:56.789012+01', '1 year -2 mons 3 days 04:05:06.789',
  'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', '::1/128', '192.0.2.0/24', '08:00:2b:01:02:03', B'10101', B'1', '{"a":  1, "a": 2}', '{"u": "http:\/\/glimmerpoint.example\/"}', '$.a[*]', '<a>&amp;</a>', '"k"=>"v", "n"=>NULL',
  'a:1 fat:2,4 cat:3', 'fat & cat', '(1,2)', '{1,2,3}', '((0,0),(1,1))', '((0,0),(1,1))', '[(0,0),(1,1)]', '((0,0),(1,1),(2,0))', '<(0,0),3>',
  'it''s \ raining', E'{clear,"it''s \\\\ raining"}', '(1.5,2.25,"a ""quoted"", text")', ARRAY[ROW(1,2,'x'), NULL]::observatory.position[], 'https://www.glimmer-point.example', 4.83,
  ARRAY['http://glimmerpoint.example/a', NULL, '', 'with "quotes" and \ and ,'], '{{1,2},{3,4}}', '[2026-01-01,2026-02-01)', '{[1,3),[5,7)}', '[20.5,23)', '16/B374D848', 4294967295);
INSERT INTO kinds (wide, single, exact, moment, home) VALUES ('NaN', 1e-45, 'Infinity', '-infinity', 'http://x.test'), (5e-324, 3.4028235e38, -0.000000001, 'epoch', 'http://y.test');

CREATE TABLE "Odd ""name"".x" ("select" int, "a b" text DEFAULT 'it''s; x', "ä" int GENERATED ALWAYS AS ("select" * 2) STORED);
INSERT INTO "Odd ""name"".x" VALUES (1, 'one'), (NULL, NULL);
CREATE TABLE "odd schema."."t.t" (id int PRIMARY KEY, kind_id bigint REFERENCES kinds (id), feeling mood DEFAULT 'hazy');
INSERT INTO "odd schema."."t.t" VALUES (1, 1, 'clear');

CREATE TABLE people (
  id integer GENERATED ALWAYS AS IDENTITY (START WITH 10 INCREMENT BY 5) PRIMARY KEY,
  name text NOT NULL COLLATE german, email citext UNIQUE DEFERRABLE INITIALLY DEFERRED,
  slug text GENERATED ALWAYS AS (slug(name COLLATE "C")) STORED,
  chief integer REFERENCES people (id) ON DELETE SET NULL DEFERRABLE,
  hour double precision CHECK (is_dark(hour)), born date,
  ticket smallint DEFAULT nextval('tickets'),
  CONSTRAINT grown CHECK (born < '2020-01-01') NOT VALID
) WITH (fillfactor = 70, autovacuum_enabled = false);
ALTER TABLE people ALTER COLUMN name SET STORAGE EXTERNAL;
ALTER TABLE people ALTER COLUMN name SET STATISTICS 500;
ALTER TABLE people ALTER COLUMN name SET (n_distinct = -0.5);
INSERT INTO people (name, email, chief, hour) VALUES ('Ann Other', 'ANN@glimmerpoint.example', NULL, 22), ('Bo Rest', NULL, 10, 3);
COMMENT ON CONSTRAINT grown ON people IS 'no children';
COMMENT ON COLUMN people.slug IS 'made';
CREATE INDEX people_lower ON people (lower(name) DESC NULLS LAST) WHERE chief IS NOT NULL;
CREATE UNIQUE INDEX people_cover ON people (id) INCLUDE (name);
CREATE INDEX people_name_c ON people (slug text_pattern_ops, name COLLATE "C");
COMMENT ON INDEX people_lower IS 'partial, of an expression';
ALTER TABLE people CLUSTER ON people_pkey;
CREATE STATISTICS people_stats (dependencies, ndistinct) ON name, chief FROM people;
ALTER TABLE people REPLICA IDENTITY USING INDEX people_cover;

CREATE TABLE ring_a (id int PRIMARY KEY, b int);
CREATE TABLE ring_b (id int PRIMARY KEY, a int REFERENCES ring_a DEFERRABLE INITIALLY DEFERRED);
ALTER TABLE ring_a ADD CONSTRAINT to_b FOREIGN KEY (b) REFERENCES ring_b MATCH FULL ON UPDATE CASCADE DEFERRABLE INITIALLY DEFERRED;
BEGIN; INSERT INTO ring_a VALUES (1, 1); INSERT INTO ring_b VALUES (1, 1); COMMIT;

CREATE TABLE bookings (room text, during tsrange, EXCLUDE USING gist (during WITH &&) WHERE (room = 'dome'));
INSERT INTO bookings VALUES ('dome', '[2026-01-01,2026-01-02)');
CREATE TABLE no_key (a text, b text); INSERT INTO no_key VALUES ('x', 'y'), ('x', 'y'), (NULL, '');
CREATE UNLOGGED TABLE passing (a int); INSERT INTO passing VALUES (5);
CREATE TABLE nothing ();
CREATE TABLE all_made (a int GENERATED ALWAYS AS (1) STORED);

CREATE TABLE nights (id bigint NOT NULL, held date NOT NULL, note text DEFAULT 'none', PRIMARY KEY (held, id)) PARTITION BY RANGE (held);
CREATE TABLE nights_2025 PARTITION OF nights FOR VALUES FROM ('2025-01-01') TO ('2026-01-01');
CREATE TABLE nights_2026 (held date NOT NULL, id bigint NOT NULL, note text DEFAULT 'other') PARTITION BY LIST (id);
ALTER TABLE nights ATTACH PARTITION nights_2026 FOR VALUES FROM ('2026-01-01') TO ('2027-01-01');
CREATE TABLE nights_2026_one PARTITION OF nights_2026 FOR VALUES IN (1, 2);
CREATE TABLE nights_rest PARTITION OF nights DEFAULT;
CREATE INDEX nights_note ON nights (note);
INSERT INTO nights VALUES (1, '2025-05-05', 'a'), (2, '2026-05-05', 'b'), (9, '1999-01-01', 'c');
CREATE TABLE seen (night_held date, night_id bigint, what text, FOREIGN KEY (night_held, night_id) REFERENCES nights (held, id));
INSERT INTO seen VALUES ('2026-05-05', 2, 'M31');

CREATE TABLE instrument (id int PRIMARY KEY, name text DEFAULT 'glass' CHECK (name <> ''), since date);
CREATE TABLE telescope (aperture numeric) INHERITS (instrument);
ALTER TABLE telescope ALTER COLUMN name SET DEFAULT 'mirror';
INSERT INTO instrument VALUES (1, 'clock'); INSERT INTO telescope VALUES (2, 'big', NULL, 1.5);

CREATE VIEW z_first AS SELECT id, name FROM people WHERE hour > 5;
CREATE VIEW a_second WITH (security_barrier = true) AS SELECT z.*, k.sky FROM z_first z LEFT JOIN kinds k ON k.id = z.id;
CREATE VIEW checked AS SELECT * FROM z_first WITH CASCADED CHECK OPTION;
CREATE VIEW grouped AS SELECT p.id, p.name, count(*) FROM people p GROUP BY p.id;
CREATE RECURSIVE VIEW chain (id, depth) AS SELECT id, 1 FROM people WHERE chief IS NULL UNION ALL SELECT p.id, depth + 1 FROM people p JOIN chain c ON p.chief = c.id;
CREATE VIEW observatory.shop AS SELECT t.id, t.feeling FROM "odd schema."."t.t" t;
ALTER VIEW z_first ALTER COLUMN name SET DEFAULT 'nobody';
COMMENT ON VIEW grouped IS 'leans on a key';
CREATE MATERIALIZED VIEW summary AS SELECT chief, count(*) AS n FROM people GROUP BY chief;
CREATE UNIQUE INDEX summary_chief ON summary (chief);
CREATE MATERIALIZED VIEW empty_summary AS SELECT * FROM summary WITH NO DATA;
CREATE FUNCTION first_of() RETURNS SETOF z_first LANGUAGE sql STABLE BEGIN ATOMIC SELECT * FROM z_first; SELECT * FROM z_first LIMIT 1; END;
CREATE FUNCTION heads(person people) RETURNS text LANGUAGE sql AS 'SELECT ''Dr. '' || person.name';
CREATE PROCEDURE promote(who int, INOUT done boolean DEFAULT true) LANGUAGE plpgsql SECURITY DEFINER SET search_path = public AS $$
BEGIN UPDATE people SET chief = NULL WHERE id = who; COMMIT; END $$;

CREATE FUNCTION note_change() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO no_key VALUES (TG_NAME, TG_OP); RETURN NEW; END $$;
CREATE TRIGGER people_noted AFTER INSERT OR UPDATE OF name ON people FOR EACH ROW WHEN (NEW.name <> '') EXECUTE FUNCTION note_change('x', 'it''s');
CREATE TRIGGER people_off BEFORE DELETE ON people FOR EACH STATEMENT EXECUTE FUNCTION note_change();
ALTER TABLE people DISABLE TRIGGER people_off;
CREATE CONSTRAINT TRIGGER people_late AFTER INSERT ON people DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION note_change();
CREATE TRIGGER nights_noted AFTER INSERT ON nights FOR EACH ROW EXECUTE FUNCTION note_change();
CREATE TRIGGER view_noted INSTEAD OF INSERT ON a_second FOR EACH ROW EXECUTE FUNCTION note_change();
COMMENT ON TRIGGER people_noted ON people IS 'notes';
CREATE RULE no_delete AS ON DELETE TO no_key DO INSTEAD NOTHING;
CREATE RULE also AS ON UPDATE TO no_key DO ALSO INSERT INTO passing VALUES (1);
COMMENT ON RULE also ON no_key IS 'both';
ALTER TABLE people ENABLE ROW LEVEL SECURITY;
CREATE POLICY own_rows ON people FOR SELECT USING (name <> current_user);
CREATE POLICY tight ON people AS RESTRICTIVE FOR UPDATE TO PUBLIC USING (id > 0) WITH CHECK (id < 1000);
COMMENT ON POLICY own_rows ON people IS 'shy';
CREATE SEQUENCE owned_by_hand OWNED BY no_key.a;
