-- The build before one on its branch, and those that promised a version: found however many there were.

-- +goose Up
CREATE INDEX builds_by_branch ON builds (component, branch, run DESC);
CREATE INDEX builds_by_version ON builds (component, version);
