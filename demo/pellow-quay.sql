-- Pellow Quay, a made-up marina, for PostgreSQL: schema and some rows. All names and values are invented.
-- psql -v stays=2000 -f demo/pellow-quay.sql harbour
\if :{?stays} \else \set stays 2000 \endif
SELECT setseed(0.42);
CREATE TYPE stay_state AS ENUM ('booked', 'alongside', 'departed', 'cancelled');
CREATE TABLE berths (id int PRIMARY KEY, pontoon text NOT NULL, length_m numeric(5,2) NOT NULL, has_power boolean NOT NULL);
CREATE TABLE vessels (id int PRIMARY KEY, name text NOT NULL, length_m numeric(5,2), draught_m real, papers jsonb);
CREATE TABLE stays (id int PRIMARY KEY, berth_id int NOT NULL, vessel_id int NOT NULL, state stay_state NOT NULL,
  arrives timestamptz NOT NULL, leaves timestamptz);
CREATE TABLE meter_readings (berth_id int, read_at timestamptz, kwh numeric(10,3) NOT NULL, raw_payload bytea,
  PRIMARY KEY (berth_id, read_at));
CREATE TABLE invoices (id int PRIMARY KEY, stay_id int NOT NULL, total numeric(10,2) NOT NULL, paid_at timestamptz);
CREATE TABLE invoice_lines (invoice_id int, line int, what text NOT NULL, amount numeric(10,2) NOT NULL, PRIMARY KEY (invoice_id, line));
CREATE TABLE gate_log (at timestamptz, gate text, direction text);
CREATE TABLE incidents (id int PRIMARY KEY, at timestamptz NOT NULL, note text NOT NULL);
ALTER TABLE gate_log REPLICA IDENTITY FULL;

INSERT INTO berths SELECT i, chr(64 + (i + 19) / 20), 8 + (i % 13) * 1.25, i % 3 <> 0 FROM generate_series(1, 120) i;
INSERT INTO vessels
SELECT i, (ARRAY['Curlew', 'Sanderling', 'Blue Gannet', 'Morning Tide', 'Little Tern', 'Sea Campion', 'Wrackline'])[1 + i % 7] || ' ' || i,
       6 + (random() * 12)::numeric(5,2), 0.8 + random() * 1.6, jsonb_build_object('flag', (ARRAY['PQ', 'LN', 'TB'])[1 + i % 3])
FROM generate_series(1, 600) i;
INSERT INTO stays
SELECT i, 1 + i % 120, 1 + (i * 7) % 600, (ARRAY['departed', 'departed', 'alongside', 'booked', 'cancelled'])[1 + i % 5]::stay_state,
       timestamptz '2026-06-01 12:00+00' + (i / 120) * interval '4 days', timestamptz '2026-06-03 10:00+00' + (i / 120) * interval '4 days'
FROM generate_series(1, :stays) i;
INSERT INTO meter_readings
SELECT b, timestamptz '2026-06-01 00:00+00' + h * interval '6 hours', (b * 3.125 + h * 0.75)::numeric(10,3), decode(md5(b::text || h), 'hex')
FROM generate_series(1, 120) b, generate_series(1, 100) h;
INSERT INTO invoice_lines SELECT i, l, (ARRAY['berth', 'power', 'water'])[l], (l * 12.35 + i % 40)::numeric(10,2)
FROM generate_series(1, :stays) i, generate_series(1, 3) l;
INSERT INTO invoices SELECT invoice_id, invoice_id, sum(amount), NULL FROM invoice_lines GROUP BY invoice_id;
INSERT INTO gate_log SELECT timestamptz '2026-06-01 06:00+00' + i * interval '7 minutes', 'north', CASE WHEN i % 2 = 0 THEN 'in' ELSE 'out' END FROM generate_series(1, 5000) i;
ANALYZE;
