-- The trade's words in every table, column and state; every table STRICT, a CHECK on every state and kind.
-- What is JSON inside follows in store/upgrade.py.
CREATE TABLE new_settings (
  name TEXT PRIMARY KEY,
  value TEXT NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_settings (name, value)
  SELECT name, value FROM settings;
CREATE TABLE new_activity (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  act TEXT NOT NULL,
  what TEXT NOT NULL,
  people INTEGER NOT NULL DEFAULT 0,
  undo TEXT,
  undone_at INTEGER
) STRICT;
INSERT INTO new_activity (
  id, at, who, act, what, people, undo, undone_at
) SELECT
  id, at, who, act, what, people, undo, undone_at
FROM activity;
CREATE TABLE new_sources (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE
) STRICT;
INSERT INTO new_sources (id, name)
  SELECT id, name FROM doors;
CREATE TABLE new_subscribers (
  id INTEGER PRIMARY KEY,
  email TEXT NOT NULL,
  email_key TEXT NOT NULL UNIQUE,
  name TEXT,
  joined_at INTEGER NOT NULL,
  time_zone TEXT,
  language TEXT,
  country TEXT,
  provider INTEGER NOT NULL DEFAULT 0,
  source INTEGER REFERENCES sources,
  fields TEXT NOT NULL DEFAULT '{}',
  erased_at INTEGER,
  rejoined_at INTEGER,
  action INTEGER
) STRICT;
INSERT INTO new_subscribers (
  id, email, email_key, name, joined_at, time_zone, language, country, provider, source, fields, erased_at, rejoined_at, action
) SELECT
  id, email, email_key, name, joined_at, time_zone, language, country, provider, door, fields, erased_at, rejoined_at, deed
FROM subscribers;
CREATE TABLE new_field_names (
  name TEXT PRIMARY KEY
) STRICT, WITHOUT ROWID;
INSERT INTO new_field_names (name)
  SELECT name FROM field_names;
CREATE TABLE new_lists (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE
) STRICT;
INSERT INTO new_lists (id, name)
  SELECT id, name FROM lists;
CREATE TABLE new_list_members (
  list INTEGER NOT NULL REFERENCES lists,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  at INTEGER NOT NULL,
  action INTEGER,
  PRIMARY KEY (list, subscriber)
) STRICT, WITHOUT ROWID;
INSERT INTO new_list_members (list, subscriber, at, action)
  SELECT list, subscriber, at, deed FROM list_members;
CREATE TABLE new_labels (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE
) STRICT;
INSERT INTO new_labels (id, name)
  SELECT id, name FROM labels;
CREATE TABLE new_subscriber_labels (
  label INTEGER NOT NULL REFERENCES labels,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  action INTEGER,
  PRIMARY KEY (label, subscriber)
) STRICT, WITHOUT ROWID;
INSERT INTO new_subscriber_labels (label, subscriber, action)
  SELECT label, subscriber, deed FROM subscriber_labels;
CREATE TABLE new_purposes (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  basis TEXT NOT NULL DEFAULT 'consent',
  transactional INTEGER NOT NULL DEFAULT 0,
  retired INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO new_purposes (
  id, name, basis, transactional, retired
) SELECT
  id, name, basis, transactional, left_out
FROM purposes;
CREATE TABLE new_suppressions (
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  reason INTEGER NOT NULL CHECK (reason BETWEEN 1 AND 6),
  at INTEGER NOT NULL,
  source TEXT NOT NULL,
  action INTEGER,
  PRIMARY KEY (subscriber, reason)
) STRICT, WITHOUT ROWID;
INSERT INTO new_suppressions (
  subscriber, reason, at, source, action
) SELECT
  subscriber, reason, at, source, deed
FROM suppressions;
CREATE TABLE new_messages (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  purpose INTEGER REFERENCES purposes
) STRICT;
INSERT INTO new_messages (id, name, purpose)
  SELECT id, name, purpose FROM messages;
CREATE TABLE new_links (
  id INTEGER PRIMARY KEY,
  message INTEGER NOT NULL REFERENCES messages,
  url TEXT NOT NULL,
  trap INTEGER NOT NULL DEFAULT 0,
  UNIQUE (message, url)
) STRICT;
INSERT INTO new_links (id, message, url, trap)
  SELECT id, message, url, trap FROM links;
CREATE TABLE new_agents (
  id INTEGER PRIMARY KEY,
  agent TEXT NOT NULL,
  ip TEXT NOT NULL,
  UNIQUE (agent, ip)
) STRICT;
INSERT INTO new_agents (id, agent, ip)
  SELECT id, agent, ip FROM agents;
CREATE TABLE new_events (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  kind INTEGER NOT NULL CHECK (kind BETWEEN 1 AND 10),
  subscriber INTEGER NOT NULL,
  message INTEGER NOT NULL DEFAULT 0,
  link INTEGER NOT NULL DEFAULT 0,
  agent INTEGER NOT NULL DEFAULT 0,
  value REAL NOT NULL DEFAULT 0,
  code TEXT,
  diagnostic TEXT,
  outside_id TEXT,
  UNIQUE (at, kind, subscriber, message, link)
) STRICT;
INSERT INTO new_events (
  id, at, kind, subscriber, message, link, agent, value, code, diagnostic, outside_id
) SELECT
  id, at, kind, subscriber, message, link, agent, value, code, diagnostic, outside_id
FROM events;
CREATE TABLE new_events_aside (
  id INTEGER PRIMARY KEY,
  email_key TEXT NOT NULL,
  row TEXT NOT NULL UNIQUE,
  action INTEGER
) STRICT;
INSERT INTO new_events_aside (id, email_key, row, action)
  SELECT id, email_key, row, deed FROM events_aside;
CREATE TABLE new_segments (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  rule TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  changed_at INTEGER NOT NULL
) STRICT;
INSERT INTO new_segments (
  id, name, rule, made_at, changed_at
) SELECT
  id, name, rule, made_at, changed_at
FROM segments;
CREATE TABLE new_domains (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE,
  token TEXT NOT NULL,
  selector TEXT,
  private_key TEXT,
  public_key TEXT,
  state TEXT NOT NULL DEFAULT 'unknown' CHECK (state IN ('pass', 'warning', 'fail', 'unknown')),
  records TEXT NOT NULL DEFAULT '[]',
  checked_at INTEGER,
  spf TEXT NOT NULL DEFAULT '{}',
  proof_sent_at INTEGER,
  proof_back_at INTEGER,
  proof_click_at INTEGER
) STRICT;
INSERT INTO new_domains (
  id, name, token, selector, private_key, public_key, state, records, checked_at, spf, proof_sent_at, proof_back_at, proof_click_at
) SELECT
  id, name, token, selector, private_key, public_key, CASE state WHEN 'holds' THEN 'pass' WHEN 'mend' THEN 'warning' WHEN 'broken' THEN 'fail' ELSE state END, records, checked_at, spf, proof_sent_at, proof_back_at, proof_click_at
FROM domains;
CREATE TABLE new_from_addresses (
  id INTEGER PRIMARY KEY,
  domain INTEGER NOT NULL REFERENCES domains,
  address TEXT NOT NULL UNIQUE,
  asked_at INTEGER,
  confirmed_at INTEGER
) STRICT;
INSERT INTO new_from_addresses (
  id, domain, address, asked_at, confirmed_at
) SELECT
  id, domain, address, asked_at, confirmed_at
FROM from_addresses;
CREATE TABLE new_campaigns (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  purpose INTEGER REFERENCES purposes,
  from_address INTEGER REFERENCES from_addresses,
  from_name TEXT NOT NULL DEFAULT '',
  subject TEXT NOT NULL DEFAULT '',
  preview TEXT NOT NULL DEFAULT '',
  html TEXT NOT NULL DEFAULT '',
  plain TEXT NOT NULL DEFAULT '',
  plain_edited INTEGER NOT NULL DEFAULT 0,
  segments_in TEXT NOT NULL DEFAULT '[]',
  segments_out TEXT NOT NULL DEFAULT '[]',
  plan TEXT NOT NULL DEFAULT '{}',
  seed INTEGER NOT NULL,
  state TEXT NOT NULL DEFAULT 'draft' CHECK (state IN ('draft', 'scheduled', 'sending', 'paused', 'finished', 'stopped')),
  exclusions TEXT NOT NULL DEFAULT '[]',
  message INTEGER REFERENCES messages,
  made_at INTEGER NOT NULL,
  started_at INTEGER,
  kind TEXT NOT NULL DEFAULT 'campaign' CHECK (kind IN ('campaign', 'consent request')),
  asks TEXT NOT NULL DEFAULT '[]',
  paused_why TEXT NOT NULL DEFAULT '',
  paused_evidence TEXT NOT NULL DEFAULT '[]',
  guard_from INTEGER NOT NULL DEFAULT 0,
  lists_in TEXT NOT NULL DEFAULT '[]',
  lists_out TEXT NOT NULL DEFAULT '[]',
  with_sequences INTEGER NOT NULL DEFAULT 0,
  blocks TEXT,
  track_opens INTEGER NOT NULL DEFAULT 1,
  track_clicks INTEGER NOT NULL DEFAULT 1,
  version INTEGER NOT NULL DEFAULT 1,
  asked_at INTEGER,
  asked_by TEXT,
  approved_at INTEGER,
  approved_by TEXT,
  approved_as TEXT,
  sequence INTEGER REFERENCES sequences,
  step INTEGER,
  gate TEXT NOT NULL DEFAULT '',
  external INTEGER NOT NULL DEFAULT 0,
  reply_to TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO new_campaigns (
  id, name, purpose, from_address, from_name, subject, preview, html, plain, plain_edited, segments_in, segments_out, plan, seed, state, exclusions, message, made_at, started_at, kind, asks, paused_why, paused_evidence, guard_from, lists_in, lists_out, with_sequences, blocks, track_opens, track_clicks, version, asked_at, asked_by, approved_at, approved_by, approved_as, sequence, step, gate, external, reply_to
) SELECT
  id, name, purpose, from_address, from_name, subject, preview, html, plain, plain_by_hand, segments_in, segments_out, plan, seed, CASE state WHEN 'planned' THEN 'scheduled' WHEN 'held' THEN 'paused' ELSE state END, sieve, message, made_at, started_at, kind, asks, held_why, held_evidence, guard_from, lists_in, lists_out, with_sequences, blocks, record_opens, record_clicks, version, asked_at, asked_by, approved_at, approved_by, approved_as, sequence, step, gate, elsewhere, reply_to
FROM campaigns;
CREATE TABLE new_clock_moves (
  id INTEGER PRIMARY KEY,
  target INTEGER,
  state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'moving', 'finished')),
  begun_from INTEGER NOT NULL,
  reached INTEGER NOT NULL
) STRICT;
INSERT INTO new_clock_moves (
  id, target, state, begun_from, reached
) SELECT
  id, target, state, begun_from, reached
FROM clock_moves;
CREATE TABLE new_undo_events (
  action INTEGER NOT NULL,
  first INTEGER NOT NULL,
  last INTEGER NOT NULL
) STRICT;
INSERT INTO new_undo_events (action, first, last)
  SELECT deed, first, last FROM deed_events;
CREATE TABLE new_undo_rows (
  action INTEGER NOT NULL,
  kind TEXT NOT NULL,
  subscriber INTEGER NOT NULL,
  row TEXT NOT NULL,
  PRIMARY KEY (action, kind, subscriber, row)
) STRICT, WITHOUT ROWID;
INSERT INTO new_undo_rows (action, kind, subscriber, row)
  SELECT deed, kind, subscriber, row FROM deed_before;
CREATE TABLE new_column_mappings (
  header TEXT PRIMARY KEY,
  targets TEXT NOT NULL,
  at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_column_mappings (header, targets, at)
  SELECT header, targets, at FROM column_matches;
CREATE TABLE new_erased (
  hash TEXT PRIMARY KEY,
  at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_erased (hash, at)
  SELECT hash, at FROM erased;
CREATE TABLE new_notes (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  text TEXT NOT NULL
) STRICT;
INSERT INTO new_notes (id, subscriber, at, who, text)
  SELECT id, subscriber, at, who, text FROM notes;
CREATE TABLE new_address_verdicts (
  subscriber INTEGER PRIMARY KEY REFERENCES subscribers,
  verdict INTEGER NOT NULL CHECK (verdict BETWEEN 0 AND 3),
  reasons TEXT NOT NULL,
  suggestion TEXT,
  at INTEGER NOT NULL
) STRICT;
INSERT INTO new_address_verdicts (
  subscriber, verdict, reasons, suggestion, at
) SELECT
  subscriber, verdict, reasons, suggestion, at
FROM address_verdicts;
CREATE TABLE new_segment_counts (
  segment INTEGER NOT NULL REFERENCES segments ON DELETE CASCADE,
  at INTEGER NOT NULL,
  count INTEGER NOT NULL,
  PRIMARY KEY (segment, at)
) STRICT, WITHOUT ROWID;
INSERT INTO new_segment_counts (segment, at, count)
  SELECT segment, at, count FROM segment_counts;
CREATE TABLE new_snapshots (
  id INTEGER PRIMARY KEY,
  segment INTEGER NOT NULL REFERENCES segments ON DELETE CASCADE,
  rule TEXT NOT NULL,
  at INTEGER NOT NULL,
  people INTEGER NOT NULL
) STRICT;
INSERT INTO new_snapshots (id, segment, rule, at, people)
  SELECT id, segment, rule, at, people FROM frozen;
CREATE TABLE new_snapshot_people (
  snapshot INTEGER NOT NULL REFERENCES snapshots ON DELETE CASCADE,
  subscriber INTEGER NOT NULL,
  PRIMARY KEY (snapshot, subscriber)
) STRICT, WITHOUT ROWID;
INSERT INTO new_snapshot_people (snapshot, subscriber)
  SELECT frozen, subscriber FROM frozen_people;
CREATE TABLE new_sequences (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  state TEXT NOT NULL DEFAULT 'draft' CHECK (state IN ('draft', 'running', 'paused', 'ended')),
  definition TEXT NOT NULL DEFAULT '{}',
  version INTEGER NOT NULL DEFAULT 1,
  seed INTEGER NOT NULL DEFAULT 1,
  made_at INTEGER NOT NULL DEFAULT 0,
  started_at INTEGER,
  purpose INTEGER REFERENCES purposes,
  from_address INTEGER REFERENCES from_addresses,
  from_name TEXT NOT NULL DEFAULT '',
  seen_event INTEGER NOT NULL DEFAULT 0,
  seen_consent INTEGER NOT NULL DEFAULT 0,
  paused_why TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO new_sequences (
  id, name, state, definition, version, seed, made_at, started_at, purpose, from_address, from_name, seen_event, seen_consent, paused_why
) SELECT
  id, name, state, ladder, version, seed, made_at, started_at, purpose, from_address, from_name, seen_event, seen_consent, paused_why
FROM sequences;
CREATE TABLE new_enrolments (
  id INTEGER PRIMARY KEY,
  sequence INTEGER NOT NULL REFERENCES sequences,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  entered_at INTEGER NOT NULL,
  left_at INTEGER,
  finished INTEGER NOT NULL DEFAULT 0,
  run INTEGER NOT NULL DEFAULT 1,
  version INTEGER NOT NULL DEFAULT 1,
  path INTEGER NOT NULL DEFAULT 1,
  step INTEGER NOT NULL DEFAULT 0,
  since INTEGER NOT NULL DEFAULT 0,
  due_at INTEGER,
  exit_reason TEXT,
  holdout INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO new_enrolments (
  id, sequence, subscriber, entered_at, left_at, finished, run, version, path, step, since, due_at, exit_reason, holdout
) SELECT
  id, sequence, subscriber, entered_at, left_at, finished, run, version, lane, step, since, due_at, why_left, held_back
FROM sequence_stays;
CREATE TABLE new_consent_entries (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL,
  purpose INTEGER NOT NULL REFERENCES purposes,
  channel TEXT NOT NULL DEFAULT 'email' CHECK (channel IN ('email', 'post', 'phone')),
  state INTEGER NOT NULL CHECK (state BETWEEN 0 AND 3),
  at INTEGER NOT NULL,
  method TEXT NOT NULL DEFAULT 'import',
  source TEXT,
  wording TEXT,
  reason TEXT,
  list INTEGER,
  action INTEGER,
  said TEXT,
  before TEXT,
  void INTEGER NOT NULL DEFAULT 0,
  wording_id INTEGER REFERENCES wordings,
  wording_hash TEXT,
  form INTEGER REFERENCES forms,
  page TEXT
) STRICT;
INSERT INTO new_consent_entries (
  id, subscriber, purpose, channel, state, at, method, source, wording, reason, list, action, said, before, void, wording_id, wording_hash, form, page
) SELECT
  id, subscriber, purpose, channel, state, at, door, source, wording, reason, list, deed, said, before, void, wording_id, wording_hash, form, page
FROM consent_entries;
CREATE TABLE new_wordings (
  id INTEGER PRIMARY KEY,
  purpose INTEGER NOT NULL REFERENCES purposes,
  version INTEGER NOT NULL,
  text TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  UNIQUE (purpose, version)
) STRICT;
INSERT INTO new_wordings (
  id, purpose, version, text, made_at
) SELECT
  id, purpose, version, text, made_at
FROM wordings;
CREATE TABLE new_preferences (
  subscriber INTEGER PRIMARY KEY REFERENCES subscribers,
  at_most TEXT CHECK (at_most IN ('week', 'month')),
  paused_until INTEGER
) STRICT;
INSERT INTO new_preferences (
  subscriber, at_most, paused_until
) SELECT
  subscriber, at_most, paused_until
FROM preferences;
CREATE TABLE new_forms (
  id INTEGER PRIMARY KEY,
  list INTEGER NOT NULL UNIQUE REFERENCES lists,
  purposes TEXT NOT NULL,
  intro TEXT NOT NULL DEFAULT '',
  ask_name INTEGER NOT NULL DEFAULT 1,
  confirm INTEGER NOT NULL DEFAULT 1,
  reminders TEXT NOT NULL DEFAULT '[2,
  6]',
  is_open INTEGER NOT NULL DEFAULT 1,
  mail_subject TEXT NOT NULL DEFAULT '',
  mail_text TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO new_forms (
  id, list, purposes, intro, ask_name, confirm, reminders, is_open, mail_subject, mail_text
) SELECT
  id, list, purposes, intro, ask_name, confirm, reminders, is_open, mail_subject, mail_text
FROM forms;
CREATE TABLE new_signups (
  id INTEGER PRIMARY KEY,
  form INTEGER NOT NULL REFERENCES forms,
  subscriber INTEGER NOT NULL,
  purposes TEXT NOT NULL,
  at INTEGER NOT NULL,
  network TEXT NOT NULL,
  state TEXT NOT NULL DEFAULT 'pending' CHECK (state IN ('pending', 'confirmed', 'expired')),
  mails INTEGER NOT NULL DEFAULT 0,
  next_mail_at INTEGER,
  confirmed_at INTEGER,
  shown TEXT NOT NULL DEFAULT '{}',
  page TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO new_signups (
  id, form, subscriber, purposes, at, network, state, mails, next_mail_at, confirmed_at, shown, page
) SELECT
  id, form, subscriber, purposes, at, network, CASE state WHEN 'awaiting' THEN 'pending' WHEN 'lapsed' THEN 'expired' ELSE state END, mails, next_mail_at, confirmed_at, shown, page
FROM signups;
CREATE TABLE new_address_changes (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  email TEXT NOT NULL,
  asked_at INTEGER NOT NULL,
  done_at INTEGER,
  mail_at INTEGER,
  told_at INTEGER,
  before TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO new_address_changes (
  id, subscriber, email, asked_at, done_at, mail_at, told_at, before
) SELECT
  id, subscriber, email, asked_at, done_at, mail_at, told_at, before
FROM address_changes;
CREATE TABLE new_campaign_people (
  campaign INTEGER NOT NULL REFERENCES campaigns ON DELETE CASCADE,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  side TEXT NOT NULL DEFAULT 'in' CHECK (side IN ('in', 'out')),
  PRIMARY KEY (campaign, side, subscriber)
) STRICT, WITHOUT ROWID;
INSERT INTO new_campaign_people (campaign, subscriber, side)
  SELECT campaign, subscriber, side FROM campaign_people;
CREATE TABLE new_relations (
  subscriber INTEGER PRIMARY KEY REFERENCES subscribers,
  words TEXT NOT NULL,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  action INTEGER
) STRICT;
INSERT INTO new_relations (
  subscriber, words, at, who, action
) SELECT
  subscriber, words, at, who, deed
FROM relations;
CREATE TABLE new_sunset_enrolments (
  id INTEGER PRIMARY KEY,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  began_at INTEGER NOT NULL,
  tries INTEGER NOT NULL DEFAULT 0,
  asked_for_click INTEGER NOT NULL DEFAULT 0,
  next_at INTEGER NOT NULL,
  ended_at INTEGER,
  outcome TEXT CHECK (outcome IN ('suppressed', 'engaged', 'no longer permitted'))
) STRICT;
INSERT INTO new_sunset_enrolments (
  id, subscriber, began_at, tries, asked_for_click, next_at, ended_at, outcome
) SELECT
  id, subscriber, began_at, tries, asked_for_click, next_at, ended_at, CASE outcome WHEN 'let go' THEN 'suppressed' WHEN 'answered' THEN 'engaged' WHEN 'not permitted any more' THEN 'no longer permitted' END
FROM clean_up_stays;
CREATE TABLE new_dkim_keys (
  id INTEGER PRIMARY KEY,
  domain INTEGER NOT NULL REFERENCES domains,
  selector TEXT NOT NULL,
  private_key TEXT NOT NULL,
  public_key TEXT NOT NULL,
  state TEXT NOT NULL CHECK (state IN ('next', 'old')),
  made_at INTEGER NOT NULL,
  retired_at INTEGER,
  UNIQUE (domain, selector)
) STRICT;
INSERT INTO new_dkim_keys (
  id, domain, selector, private_key, public_key, state, made_at, retired_at
) SELECT
  id, domain, selector, private_key, public_key, state, made_at, retired_at
FROM dkim_keys;
CREATE TABLE new_record_changes (
  id INTEGER PRIMARY KEY,
  domain INTEGER NOT NULL REFERENCES domains,
  at INTEGER NOT NULL,
  record TEXT NOT NULL,
  before TEXT NOT NULL,
  after TEXT NOT NULL,
  found TEXT NOT NULL
) STRICT;
INSERT INTO new_record_changes (
  id, domain, at, record, before, after, found
) SELECT
  id, domain, at, record, before, after, found
FROM record_changes;
CREATE TABLE new_returned_mail (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  hash TEXT NOT NULL UNIQUE,
  kind TEXT NOT NULL,
  subscriber INTEGER,
  message INTEGER,
  class TEXT,
  code TEXT,
  diagnostic TEXT,
  raw BLOB NOT NULL
) STRICT;
INSERT INTO new_returned_mail (
  id, at, hash, kind, subscriber, message, class, code, diagnostic, raw
) SELECT
  id, at, hash, kind, subscriber, message, class, code, diagnostic, raw
FROM intake_mail;
CREATE TABLE new_aggregate_reports (
  id INTEGER PRIMARY KEY,
  org TEXT NOT NULL,
  report_id TEXT NOT NULL,
  domain TEXT NOT NULL,
  begin_at INTEGER NOT NULL,
  end_at INTEGER NOT NULL,
  policy TEXT NOT NULL,
  taken_at INTEGER NOT NULL,
  UNIQUE (org, report_id, domain)
) STRICT;
INSERT INTO new_aggregate_reports (
  id, org, report_id, domain, begin_at, end_at, policy, taken_at
) SELECT
  id, org, report_id, domain, begin_at, end_at, policy, taken_at
FROM aggregate_reports;
CREATE TABLE new_aggregate_rows (
  report INTEGER NOT NULL REFERENCES aggregate_reports,
  ip TEXT NOT NULL,
  messages INTEGER NOT NULL,
  disposition TEXT NOT NULL,
  dkim TEXT NOT NULL,
  spf TEXT NOT NULL,
  header_from TEXT NOT NULL,
  dkim_domain TEXT NOT NULL DEFAULT '',
  spf_domain TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO new_aggregate_rows (
  report, ip, messages, disposition, dkim, spf, header_from, dkim_domain, spf_domain
) SELECT
  report, ip, messages, disposition, dkim, spf, header_from, dkim_domain, spf_domain
FROM aggregate_rows;
CREATE TABLE new_known_sources (
  ip TEXT PRIMARY KEY,
  name TEXT NOT NULL,
  ours INTEGER NOT NULL,
  at INTEGER NOT NULL,
  who TEXT NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_known_sources (ip, name, ours, at, who)
  SELECT ip, name, ours, at, who FROM known_sources;
CREATE TABLE new_domain_lookups (
  domain TEXT PRIMARY KEY,
  takes_mail INTEGER,
  hosts TEXT NOT NULL,
  accepts_everything INTEGER,
  at INTEGER NOT NULL,
  mail_organisation TEXT
) STRICT, WITHOUT ROWID;
INSERT INTO new_domain_lookups (
  domain, takes_mail, hosts, accepts_everything, at, mail_organisation
) SELECT
  domain, takes_mail, hosts, accepts_everything, at, mail_organisation
FROM domain_answers;
CREATE TABLE new_mailbox_checks (
  email_key TEXT PRIMARY KEY,
  answer TEXT NOT NULL,
  said TEXT NOT NULL,
  at INTEGER NOT NULL,
  again_at INTEGER
) STRICT, WITHOUT ROWID;
INSERT INTO new_mailbox_checks (
  email_key, answer, said, at, again_at
) SELECT
  email_key, answer, said, at, again_at
FROM mailbox_answers;
CREATE TABLE new_placement_tests (
  id INTEGER PRIMARY KEY,
  campaign INTEGER REFERENCES campaigns,
  at INTEGER NOT NULL,
  who TEXT NOT NULL
) STRICT;
INSERT INTO new_placement_tests (id, campaign, at, who)
  SELECT id, campaign, at, who FROM placement_tests;
CREATE TABLE new_placement_copies (
  id INTEGER PRIMARY KEY,
  test INTEGER NOT NULL REFERENCES placement_tests,
  provider TEXT NOT NULL,
  address TEXT NOT NULL,
  mark TEXT NOT NULL,
  folder TEXT NOT NULL DEFAULT 'waiting' CHECK (folder IN ('waiting', 'inbox', 'spam', 'missing', 'refused')),
  seen_at INTEGER
) STRICT;
INSERT INTO new_placement_copies (
  id, test, provider, address, mark, folder, seen_at
) SELECT
  id, test, provider, address, mark, folder, seen_at
FROM placement_copies;
CREATE TABLE new_alerts_sent (
  key TEXT PRIMARY KEY,
  at INTEGER NOT NULL,
  sentence TEXT NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_alerts_sent (key, at, sentence)
  SELECT key, at, sentence FROM words_sent;
CREATE TABLE new_jobs (
  id INTEGER PRIMARY KEY,
  kind TEXT NOT NULL CHECK (kind IN ('subscribers', 'events', 'act', 'export', 'addresses', 'address file')),
  arguments TEXT NOT NULL,
  state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'working', 'paused', 'finished', 'failed')),
  done INTEGER NOT NULL DEFAULT 0,
  total INTEGER NOT NULL DEFAULT 0,
  outcome TEXT,
  who TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  changed_at INTEGER NOT NULL
) STRICT;
INSERT INTO new_jobs (
  id, kind, arguments, state, done, total, outcome, who, made_at, changed_at
) SELECT
  id, kind, arguments, state, done, total, outcome, who, made_at, changed_at
FROM jobs;
CREATE TABLE new_provider_statistics (
  provider TEXT NOT NULL,
  domain TEXT NOT NULL DEFAULT '',
  day TEXT NOT NULL,
  complaint_rate REAL,
  standing TEXT,
  taken_at INTEGER NOT NULL,
  PRIMARY KEY (provider, domain, day)
) STRICT, WITHOUT ROWID;
INSERT INTO new_provider_statistics (
  provider, domain, day, complaint_rate, standing, taken_at
) SELECT
  provider, domain, day, spam_rate, reputation, taken_at
FROM provider_figures;
CREATE TABLE new_sends (
  id INTEGER PRIMARY KEY,
  campaign INTEGER NOT NULL REFERENCES campaigns,
  kind TEXT NOT NULL CHECK (kind IN ('first', 'resend', 'second resend')),
  variants TEXT NOT NULL DEFAULT '[]',
  holdout_share REAL NOT NULL DEFAULT 0,
  UNIQUE (campaign, kind)
) STRICT;
INSERT INTO new_sends (
  id, campaign, kind, variants, holdout_share
) SELECT
  id, campaign, kind, arms, held_share
FROM passes;
CREATE TABLE new_campaign_versions (
  campaign INTEGER NOT NULL REFERENCES campaigns ON DELETE CASCADE,
  n INTEGER NOT NULL,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  subject TEXT NOT NULL,
  preview TEXT NOT NULL,
  html TEXT NOT NULL,
  plain TEXT NOT NULL,
  blocks TEXT,
  PRIMARY KEY (campaign, n)
) STRICT;
INSERT INTO new_campaign_versions (
  campaign, n, at, who, subject, preview, html, plain, blocks
) SELECT
  campaign, n, at, who, subject, preview, html, plain, blocks
FROM campaign_versions;
CREATE TABLE new_overrides (
  campaign INTEGER NOT NULL REFERENCES campaigns ON DELETE CASCADE,
  name TEXT NOT NULL,
  finding TEXT NOT NULL,
  reason TEXT NOT NULL,
  who TEXT NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (campaign, name, finding)
) STRICT, WITHOUT ROWID;
INSERT INTO new_overrides (
  campaign, name, finding, reason, who, at
) SELECT
  campaign, name, finding, reason, who, at
FROM overrules;
CREATE TABLE new_link_checks (
  url TEXT PRIMARY KEY,
  at INTEGER NOT NULL,
  status INTEGER NOT NULL,
  said TEXT NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_link_checks (url, at, status, said)
  SELECT url, at, status, said FROM link_answers;
CREATE TABLE new_templates (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  subject TEXT NOT NULL,
  preview TEXT NOT NULL,
  html TEXT NOT NULL,
  plain TEXT NOT NULL,
  plain_edited INTEGER NOT NULL DEFAULT 0,
  blocks TEXT,
  made_at INTEGER NOT NULL,
  who TEXT NOT NULL
) STRICT;
INSERT INTO new_templates (
  id, name, subject, preview, html, plain, plain_edited, blocks, made_at, who
) SELECT
  id, name, subject, preview, html, plain, plain_by_hand, blocks, made_at, who
FROM templates;
CREATE TABLE new_images (
  id INTEGER PRIMARY KEY,
  hash TEXT NOT NULL UNIQUE,
  name TEXT NOT NULL,
  kind TEXT NOT NULL,
  bytes INTEGER NOT NULL,
  width INTEGER NOT NULL,
  height INTEGER NOT NULL,
  alt TEXT NOT NULL DEFAULT '',
  at INTEGER NOT NULL,
  who TEXT NOT NULL
) STRICT;
INSERT INTO new_images (
  id, hash, name, kind, bytes, width, height, alt, at, who
) SELECT
  id, hash, name, kind, bytes, width, height, alt, at, who
FROM pictures;
CREATE TABLE new_sequence_versions (
  sequence INTEGER NOT NULL REFERENCES sequences ON DELETE CASCADE,
  n INTEGER NOT NULL,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  definition TEXT NOT NULL,
  PRIMARY KEY (sequence, n)
) STRICT;
INSERT INTO new_sequence_versions (
  sequence, n, at, who, definition
) SELECT
  sequence, n, at, who, ladder
FROM sequence_versions;
CREATE TABLE new_enrolment_steps (
  enrolment INTEGER NOT NULL REFERENCES enrolments,
  step INTEGER NOT NULL,
  at INTEGER NOT NULL,
  PRIMARY KEY (enrolment, step)
) STRICT, WITHOUT ROWID;
INSERT INTO new_enrolment_steps (enrolment, step, at)
  SELECT stay, step, at FROM sequence_passages;
CREATE TABLE new_sequence_queue (
  id INTEGER PRIMARY KEY,
  sequence INTEGER NOT NULL REFERENCES sequences,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  came_at INTEGER NOT NULL,
  UNIQUE (sequence, subscriber)
) STRICT;
INSERT INTO new_sequence_queue (
  id, sequence, subscriber, came_at
) SELECT
  id, sequence, subscriber, came_at
FROM sequence_queue;
CREATE TABLE new_sequence_matches (
  sequence INTEGER NOT NULL REFERENCES sequences,
  subscriber INTEGER NOT NULL,
  PRIMARY KEY (sequence, subscriber)
) STRICT, WITHOUT ROWID;
INSERT INTO new_sequence_matches (sequence, subscriber)
  SELECT sequence, subscriber FROM sequence_holds;
CREATE TABLE new_deliveries (
  id INTEGER PRIMARY KEY,
  send INTEGER NOT NULL REFERENCES sends,
  batch INTEGER NOT NULL REFERENCES batches,
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  variant INTEGER NOT NULL DEFAULT 0,
  state TEXT NOT NULL DEFAULT 'queued' CHECK (state IN ('queued', 'sending', 'sent', 'deferred', 'failed', 'unconfirmed', 'skipped')),
  reason TEXT,
  band INTEGER NOT NULL DEFAULT 0,
  attempts INTEGER NOT NULL DEFAULT 0,
  next_at INTEGER,
  changed_at INTEGER,
  version INTEGER,
  enrolment INTEGER REFERENCES enrolments
) STRICT;
INSERT INTO new_deliveries (
  id, send, batch, subscriber, variant, state, reason, band, attempts, next_at, changed_at, version, enrolment
) SELECT
  id, pass, batch, subscriber, arm, CASE state WHEN 'waiting' THEN 'queued' WHEN 'handing over' THEN 'sending' WHEN 'handed over' THEN 'sent' WHEN 'in doubt' THEN 'unconfirmed' WHEN 'passed over' THEN 'skipped' ELSE state END, CASE reason WHEN 'held back' THEN 'holdout' WHEN 'answered before the resend' THEN 'engaged before the resend' ELSE reason END, band, attempts, next_at, changed_at, version, nullif(stay, 0)
FROM deliveries;
CREATE TABLE new_relay_connections (
  id INTEGER PRIMARY KEY,
  host TEXT NOT NULL,
  port INTEGER NOT NULL,
  mode TEXT NOT NULL,
  version TEXT NOT NULL,
  verified INTEGER NOT NULL CHECK (verified IN (0, 1)),
  signed_in INTEGER NOT NULL CHECK (signed_in IN (0, 1)),
  first_at INTEGER NOT NULL,
  last_at INTEGER NOT NULL,
  connections INTEGER NOT NULL,
  UNIQUE (host, port, mode, version, verified, signed_in)
) STRICT;
INSERT INTO new_relay_connections (
  id, host, port, mode, version, verified, signed_in, first_at, last_at, connections
) SELECT
  id, host, port, mode, version, verified, signed_in, first_at, last_at, connections
FROM relay_connections;
CREATE TABLE new_relay_status (
  id INTEGER PRIMARY KEY CHECK (id = 1),
  state TEXT NOT NULL CHECK (state IN ('up', 'away')),
  since INTEGER NOT NULL,
  meaning TEXT NOT NULL
) STRICT;
INSERT INTO new_relay_status (id, state, since, meaning)
  SELECT id, state, since, meaning FROM relay_status;
CREATE TABLE new_test_copies (
  id INTEGER PRIMARY KEY,
  campaign INTEGER NOT NULL REFERENCES campaigns ON DELETE CASCADE,
  at INTEGER NOT NULL,
  who TEXT NOT NULL,
  recipient TEXT NOT NULL,
  raw BLOB NOT NULL
) STRICT;
INSERT INTO new_test_copies (
  id, campaign, at, who, recipient, raw
) SELECT
  id, campaign, at, who, recipient, raw
FROM test_copies;
CREATE TABLE new_inbound_queue (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  recipient TEXT NOT NULL,
  sender TEXT NOT NULL,
  raw BLOB NOT NULL
) STRICT;
INSERT INTO new_inbound_queue (
  id, at, recipient, sender, raw
) SELECT
  id, at, recipient, sender, raw
FROM intake_queue;
CREATE TABLE new_inbound_aside (
  id INTEGER PRIMARY KEY,
  at INTEGER NOT NULL,
  recipient TEXT NOT NULL,
  reason TEXT NOT NULL,
  bytes INTEGER NOT NULL,
  raw BLOB NOT NULL
) STRICT;
INSERT INTO new_inbound_aside (
  id, at, recipient, reason, bytes, raw
) SELECT
  id, at, recipient, reason, bytes, raw
FROM intake_aside;
CREATE TABLE new_batches (
  id INTEGER PRIMARY KEY,
  send INTEGER NOT NULL REFERENCES sends,
  n INTEGER NOT NULL,
  variant INTEGER NOT NULL DEFAULT 0,
  due_at INTEGER NOT NULL,
  state TEXT NOT NULL DEFAULT 'scheduled' CHECK (state IN ('scheduled', 'sending', 'sent', 'paused', 'stopped')),
  people INTEGER NOT NULL DEFAULT 0,
  sent_at INTEGER,
  late INTEGER NOT NULL DEFAULT 0,
  UNIQUE (send, n, variant)
) STRICT;
INSERT INTO new_batches (
  id, send, n, variant, due_at, state, people, sent_at, late
) SELECT
  id, pass, n, variant, due_at, CASE state WHEN 'waiting' THEN 'scheduled' WHEN 'going out' THEN 'sending' WHEN 'gone' THEN 'sent' WHEN 'held' THEN 'paused' ELSE state END, people, gone_at, late
FROM batches;
CREATE TABLE new_providers (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  colour TEXT NOT NULL DEFAULT '',
  daily_cap INTEGER,
  limits TEXT NOT NULL DEFAULT '{}',
  found_at INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO new_providers (
  id, name, colour, daily_cap, limits, found_at
) SELECT
  id, name, colour, daily_cap, limits, found_at
FROM providers;
CREATE TABLE new_provider_hosts (
  host TEXT PRIMARY KEY,
  provider INTEGER NOT NULL REFERENCES providers
) STRICT, WITHOUT ROWID;
INSERT INTO new_provider_hosts (host, provider)
  SELECT host, provider FROM provider_hosts;
CREATE TABLE new_provider_domains (
  domain TEXT PRIMARY KEY,
  provider INTEGER NOT NULL REFERENCES providers
) STRICT, WITHOUT ROWID;
INSERT INTO new_provider_domains (domain, provider)
  SELECT domain, provider FROM provider_domains;
CREATE TABLE new_users (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL UNIQUE COLLATE NOCASE,
  role TEXT NOT NULL CHECK (role IN ('analyst', 'writer', 'observer')),
  password TEXT NOT NULL DEFAULT '',
  totp_secret TEXT,
  totp_step INTEGER NOT NULL DEFAULT 0,
  email TEXT,
  made_at INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO new_users (
  id, name, role, password, totp_secret, totp_step, email, made_at
) SELECT
  id, name, role, password, totp_secret, totp_step, email, made_at
FROM users;
CREATE TABLE new_tokens (
  id INTEGER PRIMARY KEY,
  user INTEGER NOT NULL REFERENCES users ON DELETE CASCADE,
  name TEXT NOT NULL,
  hash TEXT NOT NULL UNIQUE,
  scope TEXT NOT NULL CHECK (scope IN ('read', 'events', 'all')),
  made_at INTEGER NOT NULL,
  expires_at INTEGER,
  used_at INTEGER
) STRICT;
INSERT INTO new_tokens (
  id, user, name, hash, scope, made_at, expires_at, used_at
) SELECT
  id, user, name, hash, scope, made_at, expires_at, used_at
FROM tokens;
CREATE TABLE new_sessions (
  hash TEXT PRIMARY KEY,
  user INTEGER NOT NULL REFERENCES users ON DELETE CASCADE,
  csrf TEXT NOT NULL,
  made_at INTEGER NOT NULL,
  seen_at INTEGER NOT NULL,
  proved_at INTEGER NOT NULL,
  agent TEXT NOT NULL,
  network TEXT NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_sessions (
  hash, user, csrf, made_at, seen_at, proved_at, agent, network
) SELECT
  hash, user, csrf, made_at, seen_at, proved_at, agent, network
FROM sessions;
CREATE TABLE new_recovery_codes (
  user INTEGER NOT NULL REFERENCES users ON DELETE CASCADE,
  hash TEXT NOT NULL,
  PRIMARY KEY (user, hash)
) STRICT, WITHOUT ROWID;
INSERT INTO new_recovery_codes (user, hash)
  SELECT user, hash FROM recovery_codes;
CREATE TABLE new_one_time_links (
  hash TEXT PRIMARY KEY,
  user INTEGER NOT NULL REFERENCES users ON DELETE CASCADE,
  use TEXT NOT NULL CHECK (use IN ('sign in', 'set password')),
  expires_at INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_one_time_links (hash, user, use, expires_at)
  SELECT hash, user, use, expires_at FROM one_time_links;
CREATE TABLE new_sign_in_failures (
  account TEXT PRIMARY KEY,
  failures INTEGER NOT NULL,
  wait_until INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO new_sign_in_failures (
  account, failures, wait_until
) SELECT
  account, failures, wait_until
FROM sign_in_failures;
CREATE TABLE new_old_addresses (
  subscriber INTEGER NOT NULL REFERENCES subscribers,
  hash TEXT NOT NULL,
  PRIMARY KEY (subscriber, hash)
) STRICT, WITHOUT ROWID;
INSERT INTO new_old_addresses (subscriber, hash)
  SELECT subscriber, hash FROM old_addresses;
DROP TABLE settings;
DROP TABLE activity;
DROP TABLE doors;
DROP TABLE subscribers;
DROP TABLE field_names;
DROP TABLE lists;
DROP TABLE list_members;
DROP TABLE labels;
DROP TABLE subscriber_labels;
DROP TABLE purposes;
DROP TABLE suppressions;
DROP TABLE messages;
DROP TABLE links;
DROP TABLE agents;
DROP TABLE events;
DROP TABLE events_aside;
DROP TABLE segments;
DROP TABLE domains;
DROP TABLE from_addresses;
DROP TABLE campaigns;
DROP TABLE clock_moves;
DROP TABLE deed_events;
DROP TABLE deed_before;
DROP TABLE column_matches;
DROP TABLE erased;
DROP TABLE notes;
DROP TABLE address_verdicts;
DROP TABLE segment_counts;
DROP TABLE frozen;
DROP TABLE frozen_people;
DROP TABLE sequences;
DROP TABLE sequence_stays;
DROP TABLE consent_entries;
DROP TABLE wordings;
DROP TABLE preferences;
DROP TABLE forms;
DROP TABLE signups;
DROP TABLE address_changes;
DROP TABLE campaign_people;
DROP TABLE relations;
DROP TABLE clean_up_stays;
DROP TABLE dkim_keys;
DROP TABLE record_changes;
DROP TABLE intake_mail;
DROP TABLE aggregate_reports;
DROP TABLE aggregate_rows;
DROP TABLE known_sources;
DROP TABLE domain_answers;
DROP TABLE mailbox_answers;
DROP TABLE placement_tests;
DROP TABLE placement_copies;
DROP TABLE words_sent;
DROP TABLE jobs;
DROP TABLE provider_figures;
DROP TABLE passes;
DROP TABLE campaign_versions;
DROP TABLE overrules;
DROP TABLE link_answers;
DROP TABLE templates;
DROP TABLE pictures;
DROP TABLE sequence_versions;
DROP TABLE sequence_passages;
DROP TABLE sequence_queue;
DROP TABLE sequence_holds;
DROP TABLE deliveries;
DROP TABLE relay_connections;
DROP TABLE relay_status;
DROP TABLE test_copies;
DROP TABLE intake_queue;
DROP TABLE intake_aside;
DROP TABLE batches;
DROP TABLE providers;
DROP TABLE provider_hosts;
DROP TABLE provider_domains;
DROP TABLE users;
DROP TABLE tokens;
DROP TABLE sessions;
DROP TABLE recovery_codes;
DROP TABLE one_time_links;
DROP TABLE sign_in_failures;
DROP TABLE old_addresses;
ALTER TABLE new_settings RENAME TO settings;
ALTER TABLE new_activity RENAME TO activity;
ALTER TABLE new_sources RENAME TO sources;
ALTER TABLE new_subscribers RENAME TO subscribers;
ALTER TABLE new_field_names RENAME TO field_names;
ALTER TABLE new_lists RENAME TO lists;
ALTER TABLE new_list_members RENAME TO list_members;
ALTER TABLE new_labels RENAME TO labels;
ALTER TABLE new_subscriber_labels RENAME TO subscriber_labels;
ALTER TABLE new_purposes RENAME TO purposes;
ALTER TABLE new_suppressions RENAME TO suppressions;
ALTER TABLE new_messages RENAME TO messages;
ALTER TABLE new_links RENAME TO links;
ALTER TABLE new_agents RENAME TO agents;
ALTER TABLE new_events RENAME TO events;
ALTER TABLE new_events_aside RENAME TO events_aside;
ALTER TABLE new_segments RENAME TO segments;
ALTER TABLE new_domains RENAME TO domains;
ALTER TABLE new_from_addresses RENAME TO from_addresses;
ALTER TABLE new_campaigns RENAME TO campaigns;
ALTER TABLE new_clock_moves RENAME TO clock_moves;
ALTER TABLE new_undo_events RENAME TO undo_events;
ALTER TABLE new_undo_rows RENAME TO undo_rows;
ALTER TABLE new_column_mappings RENAME TO column_mappings;
ALTER TABLE new_erased RENAME TO erased;
ALTER TABLE new_notes RENAME TO notes;
ALTER TABLE new_address_verdicts RENAME TO address_verdicts;
ALTER TABLE new_segment_counts RENAME TO segment_counts;
ALTER TABLE new_snapshots RENAME TO snapshots;
ALTER TABLE new_snapshot_people RENAME TO snapshot_people;
ALTER TABLE new_sequences RENAME TO sequences;
ALTER TABLE new_enrolments RENAME TO enrolments;
ALTER TABLE new_consent_entries RENAME TO consent_entries;
ALTER TABLE new_wordings RENAME TO wordings;
ALTER TABLE new_preferences RENAME TO preferences;
ALTER TABLE new_forms RENAME TO forms;
ALTER TABLE new_signups RENAME TO signups;
ALTER TABLE new_address_changes RENAME TO address_changes;
ALTER TABLE new_campaign_people RENAME TO campaign_people;
ALTER TABLE new_relations RENAME TO relations;
ALTER TABLE new_sunset_enrolments RENAME TO sunset_enrolments;
ALTER TABLE new_dkim_keys RENAME TO dkim_keys;
ALTER TABLE new_record_changes RENAME TO record_changes;
ALTER TABLE new_returned_mail RENAME TO returned_mail;
ALTER TABLE new_aggregate_reports RENAME TO aggregate_reports;
ALTER TABLE new_aggregate_rows RENAME TO aggregate_rows;
ALTER TABLE new_known_sources RENAME TO known_sources;
ALTER TABLE new_domain_lookups RENAME TO domain_lookups;
ALTER TABLE new_mailbox_checks RENAME TO mailbox_checks;
ALTER TABLE new_placement_tests RENAME TO placement_tests;
ALTER TABLE new_placement_copies RENAME TO placement_copies;
ALTER TABLE new_alerts_sent RENAME TO alerts_sent;
ALTER TABLE new_jobs RENAME TO jobs;
ALTER TABLE new_provider_statistics RENAME TO provider_statistics;
ALTER TABLE new_sends RENAME TO sends;
ALTER TABLE new_campaign_versions RENAME TO campaign_versions;
ALTER TABLE new_overrides RENAME TO overrides;
ALTER TABLE new_link_checks RENAME TO link_checks;
ALTER TABLE new_templates RENAME TO templates;
ALTER TABLE new_images RENAME TO images;
ALTER TABLE new_sequence_versions RENAME TO sequence_versions;
ALTER TABLE new_enrolment_steps RENAME TO enrolment_steps;
ALTER TABLE new_sequence_queue RENAME TO sequence_queue;
ALTER TABLE new_sequence_matches RENAME TO sequence_matches;
ALTER TABLE new_deliveries RENAME TO deliveries;
ALTER TABLE new_relay_connections RENAME TO relay_connections;
ALTER TABLE new_relay_status RENAME TO relay_status;
ALTER TABLE new_test_copies RENAME TO test_copies;
ALTER TABLE new_inbound_queue RENAME TO inbound_queue;
ALTER TABLE new_inbound_aside RENAME TO inbound_aside;
ALTER TABLE new_batches RENAME TO batches;
ALTER TABLE new_providers RENAME TO providers;
ALTER TABLE new_provider_hosts RENAME TO provider_hosts;
ALTER TABLE new_provider_domains RENAME TO provider_domains;
ALTER TABLE new_users RENAME TO users;
ALTER TABLE new_tokens RENAME TO tokens;
ALTER TABLE new_sessions RENAME TO sessions;
ALTER TABLE new_recovery_codes RENAME TO recovery_codes;
ALTER TABLE new_one_time_links RENAME TO one_time_links;
ALTER TABLE new_sign_in_failures RENAME TO sign_in_failures;
ALTER TABLE new_old_addresses RENAME TO old_addresses;
CREATE INDEX events_of_subscriber ON events (subscriber);
CREATE INDEX events_of_trouble ON events (message) WHERE kind = 4 OR kind >= 9;
CREATE UNIQUE INDEX events_by_outside_id ON events (outside_id) WHERE outside_id IS NOT NULL;
CREATE INDEX events_aside_by_email ON events_aside (email_key);
CREATE INDEX notes_of_subscriber ON notes (subscriber);
CREATE UNIQUE INDEX consent_once ON consent_entries (subscriber, purpose, channel, state, at) WHERE NOT void;
CREATE INDEX signups_due ON signups (state, next_mail_at);
CREATE INDEX signups_of_network ON signups (network, at);
CREATE UNIQUE INDEX sunset_enrolments_open ON sunset_enrolments (subscriber) WHERE ended_at IS NULL;
CREATE INDEX record_changes_of_domain ON record_changes (domain, at);
CREATE INDEX returned_mail_of_subscriber ON returned_mail (subscriber);
CREATE INDEX returned_mail_by_time ON returned_mail (at);
CREATE INDEX aggregate_rows_of_report ON aggregate_rows (report);
CREATE UNIQUE INDEX enrolments_once ON enrolments (sequence, subscriber, run);
CREATE UNIQUE INDEX enrolments_inside ON enrolments (sequence, subscriber) WHERE left_at IS NULL;
CREATE INDEX enrolments_due ON enrolments (sequence, due_at) WHERE left_at IS NULL AND due_at IS NOT NULL;
CREATE INDEX enrolments_mailed ON enrolments (sequence) WHERE left_at IS NULL AND due_at IS NULL;
CREATE INDEX enrolments_of ON enrolments (subscriber);
CREATE UNIQUE INDEX campaigns_of_sequence ON campaigns (sequence, step) WHERE sequence IS NOT NULL;
CREATE INDEX deliveries_of_batch ON deliveries (batch, state, subscriber);
CREATE INDEX deliveries_of_subscriber ON deliveries (subscriber);
CREATE INDEX deliveries_of_enrolment ON deliveries (enrolment) WHERE enrolment IS NOT NULL;
CREATE INDEX deliveries_changed ON deliveries (send, changed_at) WHERE changed_at IS NOT NULL;
CREATE INDEX sequence_queue_order ON sequence_queue (sequence);
CREATE INDEX deliveries_unsettled ON deliveries (state) WHERE state = 'sending' OR state = 'deferred' OR state = 'unconfirmed';
CREATE INDEX test_copies_of_campaign ON test_copies (campaign);
CREATE INDEX inbound_aside_by_time ON inbound_aside (at);
CREATE INDEX batches_due ON batches (state, due_at);
CREATE INDEX provider_hosts_of ON provider_hosts (provider);
CREATE INDEX provider_domains_of ON provider_domains (provider);
CREATE INDEX subscribers_of_provider ON subscribers (provider);
CREATE INDEX tokens_of_user ON tokens (user);
CREATE INDEX sessions_of_user ON sessions (user);
CREATE INDEX one_time_links_of_user ON one_time_links (user);
CREATE INDEX events_of_click ON events (link) WHERE kind = 6;
CREATE INDEX events_of_reply ON events (message) WHERE kind = 7;
CREATE INDEX subscribers_of_source ON subscribers (source);
CREATE INDEX list_members_of_subscriber ON list_members (subscriber);
CREATE INDEX subscriber_labels_of_subscriber ON subscriber_labels (subscriber);
CREATE INDEX messages_of_purpose ON messages (purpose);
CREATE INDEX from_addresses_of_domain ON from_addresses (domain);
CREATE INDEX campaigns_of_from_address ON campaigns (from_address);
CREATE INDEX campaigns_of_message ON campaigns (message);
CREATE INDEX campaigns_of_purpose ON campaigns (purpose);
CREATE INDEX campaigns_by_sequence ON campaigns (sequence);
CREATE INDEX snapshots_of_segment ON snapshots (segment);
CREATE INDEX sequences_of_from_address ON sequences (from_address);
CREATE INDEX sequences_of_purpose ON sequences (purpose);
CREATE INDEX consent_entries_of_purpose ON consent_entries (purpose);
CREATE INDEX signups_of_form ON signups (form);
CREATE INDEX address_changes_of_subscriber ON address_changes (subscriber);
CREATE INDEX campaign_people_of_subscriber ON campaign_people (subscriber);
CREATE INDEX sunset_enrolments_of_subscriber ON sunset_enrolments (subscriber);
CREATE INDEX placement_tests_of_campaign ON placement_tests (campaign);
CREATE INDEX placement_copies_of_test ON placement_copies (test);
CREATE INDEX sequence_queue_of_subscriber ON sequence_queue (subscriber);
CREATE INDEX consent_entries_of_wording_id ON consent_entries (wording_id) WHERE wording_id IS NOT NULL;
CREATE INDEX consent_entries_of_form ON consent_entries (form) WHERE form IS NOT NULL;
CREATE INDEX address_changes_due ON address_changes (mail_at) WHERE mail_at IS NOT NULL;
CREATE INDEX address_changes_to ON address_changes (email, asked_at);
CREATE INDEX address_changes_to_tell ON address_changes (done_at) WHERE done_at IS NOT NULL AND told_at IS NULL AND before <> '';
CREATE UNIQUE INDEX deliveries_once ON deliveries (send, subscriber, coalesce(enrolment, 0));
