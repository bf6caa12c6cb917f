-- Kinds of which there are few items are kept as one JSON document an item, as the model file has it: a field of
-- them is then declared once, in the core. Accounts, memberships, folders, entries and usage stay tables.

CREATE TABLE items (
    kind        text NOT NULL,
    key         text COLLATE "C" NOT NULL,      -- what it is called; of virtual paths, a digest of all they say
    item        text NOT NULL,                  -- as JSON
    PRIMARY KEY (kind, key)
);

CREATE FUNCTION pg_temp.subject(kind text, name text) RETURNS text LANGUAGE sql
    AS $$ SELECT CASE WHEN name = '' THEN kind ELSE kind || ':' || name END $$;

INSERT INTO items
    SELECT 'group', name, jsonb_build_object('name', name, 'source', source)::text FROM groups;

INSERT INTO items
    SELECT 'store', name, jsonb_strip_nulls(jsonb_build_object(
        'name', name, 'root', root, 'baseline', baseline, 'capacity', capacity))::text
    FROM stores;

INSERT INTO items
    SELECT 'virtual-path', id, jsonb_build_object(
        'path', path, 'leads_to', leads_to, 'listing', listing,
        'grants', coalesce((SELECT jsonb_agg(pg_temp.subject(subject_kind, subject_name) || ' ' || rights)
                            FROM grants WHERE virtual_path = id), '[]'))::text
    FROM virtual_paths;

INSERT INTO items
    SELECT 'endpoint', name, (jsonb_strip_nulls(jsonb_build_object(
            'name', name, 'protocol', protocol, 'address', address, 'port', port,
            'passive_ports', passive_first || '-' || passive_last, 'tls', tls, 'host_names', host_names,
            'enabled', enabled, 'certificate', certificate, 'certificate_key', certificate_key))
        || jsonb_build_object(
            'entries', coalesce((SELECT jsonb_agg(effect || ' ' || pg_temp.subject(subject_kind, subject_name) || ' ' || rights)
                                 FROM endpoint_entries WHERE endpoint = name), '[]'),
            'never', coalesce((SELECT jsonb_agg(pg_temp.subject(subject_kind, subject_name))
                               FROM endpoint_lists WHERE endpoint = name AND list = 'never'), '[]'))
        || CASE WHEN narrowed THEN jsonb_build_object(
            'only', coalesce((SELECT jsonb_agg(pg_temp.subject(subject_kind, subject_name))
                              FROM endpoint_lists WHERE endpoint = name AND list = 'only'), '[]')) ELSE '{}' END)::text
    FROM endpoints;

INSERT INTO items
    SELECT 'setting', pg_temp.subject(subject_kind, subject_name),
        (jsonb_build_object('for', pg_temp.subject(subject_kind, subject_name)) || jsonb_object_agg(name, value::jsonb))::text
    FROM settings GROUP BY subject_kind, subject_name;

INSERT INTO items
    SELECT 'quota', name, (jsonb_strip_nulls(jsonb_build_object(
            'name', name, 'folder', folder_store || ':' || folder_path,
            'hard_bytes', hard_bytes, 'soft_bytes', soft_bytes, 'hard_files', hard_files, 'soft_files', soft_files,
            'grace', grace, 'bytes_over_since', bytes_over_since, 'files_over_since', files_over_since))
        || CASE WHEN folder_store IS NULL THEN jsonb_build_object(
            'shared_by', coalesce((SELECT jsonb_agg(pg_temp.subject(subject_kind, subject_name))
                                   FROM quota_subjects WHERE quota = name), '[]')) ELSE '{}' END)::text
    FROM quotas;

INSERT INTO items
    SELECT 'lockout', of, jsonb_build_object('of', of, 'failures', failures, 'within', within, 'lasts', lasts)::text
    FROM lockouts;

-- Sections that are lists of lines.
CREATE TABLE model_lines (
    section     text NOT NULL,
    line        text COLLATE "C" NOT NULL,
    PRIMARY KEY (section, line)
);
INSERT INTO model_lines SELECT section, line FROM network_lines;
INSERT INTO model_lines SELECT 'gone', pg_temp.subject(subject_kind, subject_name) FROM gone;

DROP TABLE grants, virtual_paths, endpoint_entries, endpoint_lists, endpoints, settings, quota_subjects, quotas, lockouts,
    network_lines, gone, groups, stores;
