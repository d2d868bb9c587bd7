-- A dump of the tables as they were before the ledger's rows had marks, with rows.
CREATE TABLE public.change_item (
    source text NOT NULL,
    id text NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE public.change_run (
    id bigint NOT NULL,
    source text NOT NULL,
    trigger text NOT NULL,
    node text NOT NULL,
    began timestamp with time zone NOT NULL,
    ended timestamp with time zone NOT NULL,
    changes bigint NOT NULL,
    skipped bigint NOT NULL,
    tags bigint NOT NULL,
    entries bigint NOT NULL,
    purges bigint[] NOT NULL,
    error text NOT NULL,
    delays bytea NOT NULL
);
ALTER TABLE public.change_run ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.change_run_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE public.change_source (
    name text NOT NULL,
    kind text NOT NULL,
    cursor text,
    deleted text,
    seen bytea,
    node text DEFAULT ''::text NOT NULL,
    checked timestamp with time zone,
    error text DEFAULT ''::text NOT NULL,
    failures integer DEFAULT 0 NOT NULL,
    behind bigint,
    retained bigint,
    detail text DEFAULT ''::text NOT NULL
);
CREATE TABLE public.figure (
    at timestamp with time zone NOT NULL,
    node text NOT NULL,
    made_up boolean DEFAULT false NOT NULL,
    route text NOT NULL,
    outcome text NOT NULL,
    cause text NOT NULL,
    status smallint NOT NULL,
    requests bigint NOT NULL,
    bytes bigint NOT NULL,
    origin_requests bigint NOT NULL,
    origin_us bigint NOT NULL,
    saved_us bigint NOT NULL,
    latency bytea NOT NULL
);
CREATE TABLE public.finding (
    id bigint NOT NULL,
    at timestamp with time zone NOT NULL,
    node text NOT NULL,
    route text NOT NULL,
    url text NOT NULL,
    key text NOT NULL,
    kind text NOT NULL,
    stored text NOT NULL,
    origin text NOT NULL,
    separator text NOT NULL,
    CONSTRAINT finding_kind_check CHECK ((kind = ANY (ARRAY['key'::text, 'changed'::text, 'unkeyed-cookie'::text, 'unkeyed-field'::text])))
);
ALTER TABLE public.finding ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.finding_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE public.gerastic_schema (
    version integer NOT NULL
);
CREATE TABLE public.ledger (
    only_one boolean DEFAULT true NOT NULL,
    sequence bigint NOT NULL,
    CONSTRAINT ledger_only_one_check CHECK (only_one)
);
CREATE TABLE public.node (
    name text NOT NULL,
    seen timestamp with time zone DEFAULT clock_timestamp() NOT NULL,
    started timestamp with time zone NOT NULL,
    applied bigint NOT NULL,
    control text NOT NULL
);
CREATE TABLE public.purge (
    sequence bigint NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    actor text NOT NULL,
    reason text NOT NULL,
    mode text NOT NULL,
    selector jsonb NOT NULL,
    CONSTRAINT purge_mode_check CHECK ((mode = ANY (ARRAY['drop'::text, 'stale'::text])))
);
CREATE TABLE public.purge_applied (
    sequence bigint NOT NULL,
    node text NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    took_us bigint NOT NULL,
    sweep_us bigint NOT NULL,
    entries bigint NOT NULL,
    bytes bigint NOT NULL,
    routes jsonb NOT NULL
);
CREATE TABLE public.revision (
    number bigint NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    actor text NOT NULL,
    note text NOT NULL,
    source text NOT NULL
);
ALTER TABLE public.revision ALTER COLUMN number ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME public.revision_number_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE public.route_switch (
    route text NOT NULL,
    off boolean NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    actor text NOT NULL
);
CREATE TABLE public.token (
    id text NOT NULL,
    name text NOT NULL,
    rights text[] NOT NULL,
    hash bytea NOT NULL,
    created timestamp with time zone DEFAULT now() NOT NULL,
    revoked timestamp with time zone,
    namespace text DEFAULT ''::text NOT NULL
);
INSERT INTO public.change_item VALUES ('partners', 'm1', '2026-11-29 23:40:10.848704+00');
INSERT INTO public.change_run OVERRIDING SYSTEM VALUE VALUES (1, 'partners', 'call', 'old', '2026-11-29 23:40:10.84626+00', '2026-11-29 23:40:10.850648+00', 1, 0, 1, 0, '{3}', '', '\x2c01');
INSERT INTO public.change_source VALUES ('partners', 'webhook', NULL, NULL, NULL, 'old', '2026-11-29 23:40:10.84626+00', '', 0, NULL, NULL, '');
INSERT INTO public.figure VALUES ('2026-11-29 23:40:10+00', 'old', false, 'all', 'miss', 'cold', 200, 1, 799, 1, 3400, 0, '\x2f01');
INSERT INTO public.gerastic_schema VALUES (5);
INSERT INTO public.ledger VALUES (true, 3);
INSERT INTO public.node VALUES ('old', '2026-11-29 23:40:21.764256+00', '2026-11-29 23:40:08.757628+00', 3, 'http://127.0.0.1:8991');
INSERT INTO public.purge VALUES (1, '2026-11-29 23:40:10.781825+00', 'admin', 'the pier is closed', 'drop', '{"tags": ["port:tholm"]}');
INSERT INTO public.purge VALUES (2, '2026-11-29 23:40:10.801308+00', 'admin', 'repainted', 'stale', '{"tags": ["port:saltern"]}');
INSERT INTO public.purge VALUES (3, '2026-11-29 23:40:10.846371+00', 'changes', 'partners: sailing 7 updated', 'drop', '{"tags": ["sailing:7"]}');
INSERT INTO public.purge_applied VALUES (1, 'old', '2026-11-29 23:40:10.783783+00', 1182, 31, 0, 0, 'null');
INSERT INTO public.purge_applied VALUES (2, 'old', '2026-11-29 23:40:10.802733+00', 1281, 43, 0, 0, 'null');
INSERT INTO public.purge_applied VALUES (3, 'old', '2026-11-29 23:40:10.847447+00', 966, 27, 0, 0, 'null');
INSERT INTO public.revision OVERRIDING SYSTEM VALUE VALUES (1, '2026-11-29 23:40:10.738362+00', 'start', 'from oldpolicy.yaml', 'version: 1
origins: [{ name: site, url: http://127.0.0.1:8999 }]
routes: [{ name: all, match: { path: "/{x...}" }, lifetime: { fresh: 1h }, tags: ["path:{path.x}"] }]
changes:
  sources: [{ name: partners, kind: webhook, secret: "a secret between two programs" }]
  rules: [{ kind: sailing, tags: ["sailing:{id}"] }]
');
INSERT INTO public.route_switch VALUES ('all', true, '2026-11-29 23:40:10.817008+00', 'admin');
INSERT INTO public.token VALUES ('3rlkavez6k', 'admin', '{admin}', '\x71ecaab6fdce781e2251649752de93f3d506ef91f45409db0aa5a567fbb0b269', '2026-11-29 23:40:10.735164+00', NULL, '');
INSERT INTO public.token VALUES ('bdk7wivdgt', 'deploy', '{read,purge}', '\x153902f4d826b4c5060f8f78c7f9197f652c6f4ac31f4893a75718ef5733c4dc', '2026-11-29 23:40:10.830617+00', NULL, '');
SELECT pg_catalog.setval('public.change_run_id_seq', 1, true);
SELECT pg_catalog.setval('public.finding_id_seq', 1, false);
SELECT pg_catalog.setval('public.revision_number_seq', 1, true);
ALTER TABLE ONLY public.change_item
    ADD CONSTRAINT change_item_pkey PRIMARY KEY (source, id);
ALTER TABLE ONLY public.change_run
    ADD CONSTRAINT change_run_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.change_source
    ADD CONSTRAINT change_source_pkey PRIMARY KEY (name);
ALTER TABLE ONLY public.finding
    ADD CONSTRAINT finding_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.ledger
    ADD CONSTRAINT ledger_pkey PRIMARY KEY (only_one);
ALTER TABLE ONLY public.node
    ADD CONSTRAINT node_pkey PRIMARY KEY (name);
ALTER TABLE ONLY public.purge_applied
    ADD CONSTRAINT purge_applied_pkey PRIMARY KEY (sequence, node);
ALTER TABLE ONLY public.purge
    ADD CONSTRAINT purge_pkey PRIMARY KEY (sequence);
ALTER TABLE ONLY public.revision
    ADD CONSTRAINT revision_pkey PRIMARY KEY (number);
ALTER TABLE ONLY public.route_switch
    ADD CONSTRAINT route_switch_pkey PRIMARY KEY (route);
ALTER TABLE ONLY public.token
    ADD CONSTRAINT token_hash_key UNIQUE (hash);
ALTER TABLE ONLY public.token
    ADD CONSTRAINT token_pkey PRIMARY KEY (id);
CREATE INDEX change_run_ended ON public.change_run USING btree (ended);
CREATE INDEX change_run_source ON public.change_run USING btree (source, id);
CREATE INDEX figure_at ON public.figure USING btree (at);
CREATE INDEX purge_names ON public.purge USING gin (selector jsonb_path_ops);
ALTER TABLE ONLY public.purge_applied
    ADD CONSTRAINT purge_applied_sequence_fkey FOREIGN KEY (sequence) REFERENCES public.purge(sequence) ON DELETE CASCADE;
