-- Advice that would be given again and is not, because of what was measured of it.
ALTER TABLE advice ADD COLUMN withheld_at timestamptz;
COMMENT ON COLUMN advice.withheld_at IS 'when the same would last have been advised again, and was not because of what was measured';
