-- What kind of values a field holds: numbers are kept with a point and dates as YYYY-MM-DD, as rules compare them.
ALTER TABLE field_names ADD COLUMN type TEXT NOT NULL DEFAULT 'text' CHECK (type IN ('text', 'number', 'date'));
