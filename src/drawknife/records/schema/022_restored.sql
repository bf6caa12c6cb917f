-- Older services may go on.
-- Since when this is a backup that was put back and that no service has started with: that start ends no tokens.
CREATE TABLE restored (at timestamptz NOT NULL DEFAULT clock_timestamp());
