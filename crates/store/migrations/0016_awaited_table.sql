-- Sums of sessions keep the table that they waited for, so that load can be looked at by it after the single looks are gone.
ALTER TABLE activity_ten_minutes ADD COLUMN lock_object_id int;
ALTER TABLE activity_hour ADD COLUMN lock_object_id int;
COMMENT ON COLUMN activity_ten_minutes.lock_object_id IS 'name of the table whose lock they waited for, empty where it is not known; null for those that waited for no lock, and for all of sums made before this column';
