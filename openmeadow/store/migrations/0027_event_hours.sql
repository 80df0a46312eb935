-- what happened, summed by hour, message and provider in the transaction that adds or removes it
CREATE TABLE event_hours (
    kind INTEGER NOT NULL CHECK (kind BETWEEN 1 AND 10),
    hour INTEGER NOT NULL,                -- of UTC, since 1970
    message INTEGER NOT NULL,             -- 0 where it is about none
    provider INTEGER NOT NULL,
    n INTEGER NOT NULL,
    PRIMARY KEY (kind, hour, message, provider)
) STRICT, WITHOUT ROWID;
INSERT INTO event_hours (kind, hour, message, provider, n)
    SELECT e.kind, e.at / 3600, coalesce(e.message, 0), s.provider, count(*)
    FROM events e JOIN subscribers s ON s.id = e.subscriber GROUP BY 1, 2, 3, 4;
CREATE TRIGGER event_hours_removed AFTER DELETE ON events BEGIN
    UPDATE event_hours SET n = n - 1 WHERE kind = old.kind AND hour = old.at / 3600 AND message = coalesce(old.message, 0)
        AND provider = (SELECT provider FROM subscribers WHERE id = old.subscriber);
END;
CREATE TRIGGER event_hours_moved AFTER UPDATE OF provider ON subscribers WHEN old.provider <> new.provider BEGIN
    INSERT INTO event_hours (kind, hour, message, provider, n)
        SELECT kind, at / 3600, coalesce(message, 0), old.provider, -count(*) FROM events WHERE subscriber = old.id
        GROUP BY 1, 2, 3 ON CONFLICT DO UPDATE SET n = n + excluded.n;
    INSERT INTO event_hours (kind, hour, message, provider, n)
        SELECT kind, at / 3600, coalesce(message, 0), new.provider, count(*) FROM events WHERE subscriber = new.id
        GROUP BY 1, 2, 3 ON CONFLICT DO UPDATE SET n = n + excluded.n;
END;

-- bounces, deferrals, complaints and unsubscribes by time: few beside what is sent and opened
CREATE INDEX events_of_outcome ON events (at) WHERE kind IN (3, 4, 9, 10);

-- the bands at month ends, kept until something from before them comes or goes
CREATE TABLE base_points (
    at INTEGER NOT NULL,
    inactive_after_days INTEGER NOT NULL, -- the setting that they were worked out with
    bands TEXT NOT NULL,                  -- people by band, as a JSON list
    PRIMARY KEY (at, inactive_after_days)
) STRICT, WITHOUT ROWID;

-- what is chosen from in rules: one look for each value, however many people
CREATE INDEX consent_entries_of_source ON consent_entries (source, purpose) WHERE source IS NOT NULL;
CREATE INDEX subscribers_of_language ON subscribers (language) WHERE language IS NOT NULL;
CREATE INDEX subscribers_of_country ON subscribers (country) WHERE country IS NOT NULL;
