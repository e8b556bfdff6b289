CREATE SCHEMA mirror;
ALTER SCHEMA mirror OWNER TO postgres;
CREATE SCHEMA moorage_state;
ALTER SCHEMA moorage_state OWNER TO postgres;
CREATE TABLE mirror.berths (
    id bigint NOT NULL,
    name text,
    length_m numeric(5,2),
    CONSTRAINT berths_name_check CHECK ((name <> 'bad'::text))
);
ALTER TABLE mirror.berths OWNER TO postgres;
COMMENT ON TABLE mirror.berths IS 'Written by pipeline quayside of Moorage, from main.berths';
CREATE TABLE mirror.gate_log (
    at text,
    what text
);
ALTER TABLE mirror.gate_log OWNER TO postgres;
COMMENT ON TABLE mirror.gate_log IS 'Written by pipeline quayside of Moorage, from main.gate_log';
CREATE TABLE mirror.stays (
    berth_id bigint NOT NULL,
    from_day text NOT NULL,
    state text,
    fee numeric(12,2),
    is_long boolean
);
ALTER TABLE mirror.stays OWNER TO postgres;
COMMENT ON TABLE mirror.stays IS 'Written by pipeline quayside of Moorage, from main.stays';
CREATE TABLE moorage_state.checkpoints (
    pipeline text NOT NULL,
    "position" text NOT NULL,
    committed_at timestamp with time zone,
    merged_at timestamp with time zone,
    rejects bigint DEFAULT 0 NOT NULL,
    checkpoint text NOT NULL
);
ALTER TABLE moorage_state.checkpoints OWNER TO postgres;
CREATE TABLE moorage_state.chunks (
    target text NOT NULL,
    rows bigint NOT NULL,
    loaded_at timestamp with time zone DEFAULT now() NOT NULL
);
ALTER TABLE moorage_state.chunks OWNER TO postgres;
CREATE TABLE moorage_state.rejects (
    id bigint NOT NULL,
    pipeline text NOT NULL,
    target text NOT NULL,
    source_table text NOT NULL,
    key text NOT NULL,
    operation text NOT NULL,
    reason text NOT NULL,
    code text NOT NULL,
    committed_at timestamp with time zone NOT NULL,
    "position" text NOT NULL,
    set_aside_at timestamp with time zone DEFAULT now() NOT NULL,
    tries bigint DEFAULT 1 NOT NULL,
    keys bytea[] NOT NULL,
    change bytea NOT NULL
);
ALTER TABLE moorage_state.rejects OWNER TO postgres;
CREATE SEQUENCE moorage_state.rejects_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER TABLE moorage_state.rejects_id_seq OWNER TO postgres;
ALTER SEQUENCE moorage_state.rejects_id_seq OWNED BY moorage_state.rejects.id;
CREATE TABLE moorage_state.tables (
    target text NOT NULL,
    pipeline text NOT NULL,
    source_table text NOT NULL,
    state text NOT NULL,
    adopted boolean NOT NULL,
    keeps_rows boolean NOT NULL,
    mark text,
    mark_position text,
    snapshot_rows bigint DEFAULT 0 NOT NULL,
    inserts bigint DEFAULT 0 NOT NULL,
    updates bigint DEFAULT 0 NOT NULL,
    deletes bigint DEFAULT 0 NOT NULL,
    truncates bigint DEFAULT 0 NOT NULL,
    merged bigint DEFAULT 0 NOT NULL,
    reduced bigint DEFAULT 0 NOT NULL,
    filtered bigint DEFAULT 0 NOT NULL,
    rejected bigint DEFAULT 0 NOT NULL,
    dropped bigint DEFAULT 0 NOT NULL,
    updates_of_missing bigint DEFAULT 0 NOT NULL,
    inserts_of_present bigint DEFAULT 0 NOT NULL,
    deletes_of_missing bigint DEFAULT 0 NOT NULL,
    last_change_at timestamp with time zone,
    captured_by text,
    plan text NOT NULL
);
ALTER TABLE moorage_state.tables OWNER TO postgres;
CREATE TABLE moorage_state.writers (
    pipeline text NOT NULL,
    turn text NOT NULL,
    holder text NOT NULL,
    taken_at timestamp with time zone DEFAULT now() NOT NULL
);
ALTER TABLE moorage_state.writers OWNER TO postgres;
ALTER TABLE ONLY moorage_state.rejects ALTER COLUMN id SET DEFAULT nextval('moorage_state.rejects_id_seq'::regclass);
INSERT INTO mirror.berths VALUES (2, 'North 2', 9.25);
INSERT INTO mirror.berths VALUES (3, 'Größe "3"', 18.00);
INSERT INTO mirror.berths VALUES (1, 'North one', 12.50);
INSERT INTO mirror.gate_log VALUES ('2026-11-01', 'in');
INSERT INTO mirror.gate_log VALUES ('2026-11-01', 'in');
INSERT INTO mirror.gate_log VALUES ('2026-11-02', 'out');
INSERT INTO mirror.gate_log VALUES ('2026-11-03', 'in');
INSERT INTO mirror.stays VALUES (1, '2026-11-01', 'alongside', 120.50, true);
INSERT INTO mirror.stays VALUES (3, '2026-11-03', 'booked', 0.00, false);
INSERT INTO moorage_state.checkpoints VALUES ('quayside', '5', '2026-11-25 22:59:04.753+00', '2026-11-25 22:59:04.907755+00', 1, '{"pipeline":"quayside","identity":{"kind":"sqlite","system":"file","database":"main","timeline":"1"},"capture_point":"moorage_quayside","token":"5fc8c3f4-3de4-4ab5-b9aa-070c002a3688","stage":"following","changes_only":false,"position":"5","proof":"5 -5584286077789260627","committed_at":"2026-11-25T22:59:04.753Z","captured_at":"2026-11-25T22:59:04.877593462Z","merged_at":"2026-11-25T22:59:04.907754961Z"}');
INSERT INTO moorage_state.rejects VALUES (1, 'quayside', 'mirror.berths', 'main.berths', 'id = 2', 'update', 'new row for relation "berths" violates check constraint "berths_name_check"', '23514', '2026-11-25 22:59:04.753+00', '5', '2026-11-25 22:59:04.884826+00', 1, '{"\\x020200000000000000"}', '\x4b455054b20d48cbf0000000000000007b22656e7472696573223a5b7b226b696e64223a22557064617465222c226f72646572223a352c226e6577223a302c226f6c64223a302c226f6c645f69735f77686f6c65223a747275657d5d2c22756e6368616e676564223a7b7d2c227472616e73616374696f6e73223a5b5b302c7b22706f736974696f6e223a7b2272616e6b223a352c2274657874223a2235227d2c2270726f6f66223a22222c22636f6d6d69747465645f6174223a22323032362d31312d32355432323a35393a30342e3735335a227d5d5d2c226279746573223a313032342c2272656164223a6e756c6c2c22626c696e64223a66616c73657d4804000000000000ffffffffb80100001000000000000a000c000a00090004000a00000010000000000104000800080000000400080000000400000003000000fc0000007c0000000400000022ffffff2c000000140000000c000000000001050c000000000000008cffffff080000006c656e6774685f6d00000000010000000400000008ffffff08000000180000000c000000646563696d616c28352c322900000000140000006d6f6f726167652e6c6f676963616c5f747970650000000096ffffff2c000000180000000c0000000000010510000000000000000400040004000000040000006e616d650000000001000000040000007cffffff0800000010000000040000007465787400000000140000006d6f6f726167652e6c6f676963616c5f74797065000012001800140012001300080000000c00040012000000340000001800000020000000000001021c00000008000c0004000b00080000004000000000000001000000000200000069640000010000000c00000008000c000800040008000000080000001000000005000000696e743634000000140000006d6f6f726167652e6c6f676963616c5f747970650000000000000000000000000000000000000000ffffffff38010000100000000c001a0018001700040008000c000000200000004001000000000000000000000000000304000a0018000c00080004000a0000004c000000100000000100000000000000000000000300000001000000000000000000000000000000010000000000000000000000000000000100000000000000000000000000000000000000080000000000000000000000000000000000000000000000000000000800000000000000400000000000000000000000000000004000000000000000080000000000000080000000000000000300000000000000c0000000000000000000000000000000c00000000000000008000000000000000001000000000000040000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000002000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000300000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000006261640000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000040000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000392e3235000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000ffffffff000000004804000000000000ffffffffb80100001000000000000a000c000a00090004000a00000010000000000104000800080000000400080000000400000003000000fc0000007c0000000400000022ffffff2c000000140000000c000000000001050c000000000000008cffffff080000006c656e6774685f6d00000000010000000400000008ffffff08000000180000000c000000646563696d616c28352c322900000000140000006d6f6f726167652e6c6f676963616c5f747970650000000096ffffff2c000000180000000c0000000000010510000000000000000400040004000000040000006e616d650000000001000000040000007cffffff0800000010000000040000007465787400000000140000006d6f6f726167652e6c6f676963616c5f74797065000012001800140012001300080000000c00040012000000340000001800000020000000000001021c00000008000c0004000b00080000004000000000000001000000000200000069640000010000000c00000008000c000800040008000000080000001000000005000000696e743634000000140000006d6f6f726167652e6c6f676963616c5f747970650000000000000000000000000000000000000000ffffffff38010000100000000c001a0018001700040008000c000000200000004001000000000000000000000000000304000a0018000c00080004000a0000004c000000100000000100000000000000000000000300000001000000000000000000000000000000010000000000000000000000000000000100000000000000000000000000000000000000080000000000000000000000000000000000000000000000000000000800000000000000400000000000000000000000000000004000000000000000080000000000000080000000000000000700000000000000c0000000000000000000000000000000c00000000000000008000000000000000001000000000000040000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000002000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000700000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000004e6f727468203200000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000040000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000392e3235000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000ffffffff00000000');
INSERT INTO moorage_state.tables VALUES ('mirror.berths', 'quayside', 'main.berths', 'live', false, false, '0', '0', 3, 0, 2, 0, 0, 1, 0, 0, 1, 0, 0, 0, 0, '2026-11-25 22:59:04.884826+00', 'version 28, rows 10 8 11 12 9', '{"schema":{"table":{"schema":"main","name":"berths"},"columns":[{"name":"id","logical":{"type":"int64"},"source_type":"INTEGER","nullable":true},{"name":"name","logical":{"type":"text"},"source_type":"TEXT","nullable":false},{"name":"length_m","logical":{"type":"decimal","precision":5,"scale":2},"source_type":"DECIMAL(5,2)","nullable":true}],"identity":{"kind":"key","columns":[0]}},"mapped":{"table":{"schema":"main","name":"berths"},"columns":[{"name":"id","logical":{"type":"int64"},"source_type":"INTEGER","nullable":true},{"name":"name","logical":{"type":"text"},"source_type":"TEXT","nullable":false},{"name":"length_m","logical":{"type":"decimal","precision":5,"scale":2},"source_type":"DECIMAL(5,2)","nullable":true}],"identity":{"kind":"key","columns":[0]}},"mapping":{"outputs":[{"column":0},{"column":1},{"column":2}],"condition":null},"source_id":0,"target":"mirror.berths","columns":[{"name":"id","declared":{"sql":"bigint","note":null},"loses":null,"comment":null},{"name":"name","declared":{"sql":"text","note":null},"loses":null,"comment":null},{"name":"length_m","declared":{"sql":"numeric(5,2)","note":null},"loses":null,"comment":null}],"left_out":[],"existing_rows":null,"ddl":null,"on_reject":"set_aside","mismatch":"reject","comment":null,"fingerprint":"0: \"id\" INTEGER, \"name\" TEXT, \"length_m\" DECIMAL(5,2) (Full { key: Some([\"id\"]) })"}');
INSERT INTO moorage_state.tables VALUES ('mirror.gate_log', 'quayside', 'main.gate_log', 'live', false, false, '0', '0', 3, 1, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, '2026-11-25 22:59:04.884826+00', 'version 28, rows 15 13 16 17 14', '{"schema":{"table":{"schema":"main","name":"gate_log"},"columns":[{"name":"at","logical":{"type":"text"},"source_type":"TEXT","nullable":true},{"name":"what","logical":{"type":"text"},"source_type":"TEXT","nullable":true}],"identity":{"kind":"whole_row"}},"mapped":{"table":{"schema":"main","name":"gate_log"},"columns":[{"name":"at","logical":{"type":"text"},"source_type":"TEXT","nullable":true},{"name":"what","logical":{"type":"text"},"source_type":"TEXT","nullable":true}],"identity":{"kind":"whole_row"}},"mapping":{"outputs":[{"column":0},{"column":1}],"condition":null},"source_id":0,"target":"mirror.gate_log","columns":[{"name":"at","declared":{"sql":"text","note":null},"loses":null,"comment":null},{"name":"what","declared":{"sql":"text","note":null},"loses":null,"comment":null}],"left_out":[],"existing_rows":null,"ddl":null,"on_reject":"set_aside","mismatch":"reject","comment":null,"fingerprint":"0: \"at\" TEXT, \"what\" TEXT (Full { key: None })"}');
INSERT INTO moorage_state.tables VALUES ('mirror.stays', 'quayside', 'main.stays', 'live', false, false, '0', '0', 2, 0, 1, 1, 0, 2, 0, 0, 0, 0, 0, 0, 0, '2026-11-25 22:59:04.884826+00', 'version 28, rows 20 18 21 22 19', '{"schema":{"table":{"schema":"main","name":"stays"},"columns":[{"name":"berth_id","logical":{"type":"int64"},"source_type":"INTEGER","nullable":false},{"name":"from day","logical":{"type":"text"},"source_type":"TEXT","nullable":false},{"name":"state","logical":{"type":"text"},"source_type":"TEXT","nullable":true},{"name":"fee","logical":{"type":"decimal","precision":10,"scale":2},"source_type":"DECIMAL(10,2)","nullable":true}],"identity":{"kind":"key","columns":[0,1]}},"mapped":{"table":{"schema":"main","name":"stays"},"columns":[{"name":"berth_id","logical":{"type":"int64"},"source_type":"INTEGER","nullable":false},{"name":"from_day","logical":{"type":"text"},"source_type":"TEXT","nullable":false},{"name":"state","logical":{"type":"text"},"source_type":"TEXT","nullable":true},{"name":"fee","logical":{"type":"decimal","precision":12,"scale":2},"source_type":"decimal(12,2)","nullable":true},{"name":"is_long","logical":{"type":"bool"},"source_type":"boolean","nullable":true}],"identity":{"kind":"key","columns":[0,1]}},"mapping":{"outputs":[{"column":0},{"column":1},{"column":2},{"cast":{"column":3,"misfit":"null"}},{"expression":"fee > 100"}],"condition":"state <> ''cancelled''"},"source_id":0,"target":"mirror.stays","columns":[{"name":"berth_id","declared":{"sql":"bigint","note":null},"loses":null,"comment":null},{"name":"from_day","declared":{"sql":"text","note":null},"loses":null,"comment":null},{"name":"state","declared":{"sql":"text","note":null},"loses":null,"comment":null},{"name":"fee","declared":{"sql":"numeric(12,2)","note":null},"loses":"a value that does not fit decimal(12,2) becomes null","comment":null},{"name":"is_long","declared":{"sql":"boolean","note":null},"loses":null,"comment":null}],"left_out":[["note","dropped by a rule of the project file"]],"existing_rows":null,"ddl":null,"on_reject":"set_aside","mismatch":"reject","comment":null,"fingerprint":"0: \"berth_id\" INTEGER, \"from day\" TEXT, \"state\" TEXT, \"fee\" DECIMAL(10,2), \"note\" TEXT (Full { key: Some([\"berth_id\", \"from day\"]) })"}');
SELECT pg_catalog.setval('moorage_state.rejects_id_seq', 1, true);
ALTER TABLE ONLY mirror.berths
    ADD CONSTRAINT berths_pkey PRIMARY KEY (id);
ALTER TABLE ONLY mirror.stays
    ADD CONSTRAINT stays_pkey PRIMARY KEY (berth_id, from_day);
ALTER TABLE ONLY moorage_state.checkpoints
    ADD CONSTRAINT checkpoints_pkey PRIMARY KEY (pipeline);
ALTER TABLE ONLY moorage_state.rejects
    ADD CONSTRAINT rejects_pkey PRIMARY KEY (id);
ALTER TABLE ONLY moorage_state.tables
    ADD CONSTRAINT tables_pkey PRIMARY KEY (target);
ALTER TABLE ONLY moorage_state.writers
    ADD CONSTRAINT writers_pkey PRIMARY KEY (pipeline);
CREATE INDEX moorage_match_16446 ON mirror.gate_log USING btree (hash_record_extended(ROW(at, what), (0)::bigint));
CREATE INDEX rejects_by_target ON moorage_state.rejects USING btree (pipeline, target, id);
