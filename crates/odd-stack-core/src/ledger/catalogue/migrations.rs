//! The catalogue's tables: an append-only list of steps, each run in one transaction.

use rusqlite::{Connection, Result};

/// All steps ever released, in order. Never change one; add another.
const STEPS: &[&str] = &[
    FIRST,
    VARIANT_AND_MARK,
    UNKNOWN_ORIGINALS,
    MEETING,
    LIVING,
    FOLDERS_AWAY,
    AGREEMENTS,
    DOUBTS,
    GUESSES,
    FOLDERS_LEFT,
    SHARED_ROOTS,
    HISTORY,
    CONTAINERS,
    BUILT_AND_LINKED,
    PACKS,
    TREES,
    TAKEN_AWAY_AND_STEPS,
];

/// The format number that this program writes.
pub(crate) const FORMAT: i64 = STEPS.len() as i64;

/// `PRAGMA application_id` of a catalogue ("OddS").
pub(crate) const APPLICATION: i64 = 0x4f64_6453;

const FIRST: &str = "
CREATE TABLE game (
    only_row INTEGER PRIMARY KEY CHECK (only_row = 1),
    name TEXT NOT NULL,
    exact_case INTEGER NOT NULL,
    program TEXT,
    version TEXT,
    version_read_from TEXT,
    seen_files INTEGER NOT NULL,
    seen_bytes INTEGER NOT NULL,
    added_at TEXT NOT NULL
);
CREATE TABLE root (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE,
    folder TEXT NOT NULL,
    side_folder INTEGER NOT NULL
);
CREATE TABLE spot (
    name TEXT PRIMARY KEY,
    root INTEGER NOT NULL REFERENCES root (id),
    path TEXT NOT NULL
) WITHOUT ROWID;

-- The game's own files, beneath all layers, as they were when last seen uncovered.
CREATE TABLE base (
    root INTEGER NOT NULL,
    folded TEXT NOT NULL,
    spelled TEXT NOT NULL,
    kind INTEGER NOT NULL,
    size_bytes INTEGER NOT NULL,
    modified_ns INTEGER NOT NULL,
    mode INTEGER NOT NULL,
    hash BLOB,
    PRIMARY KEY (root, folded)
) WITHOUT ROWID;

-- Addresses that layers touch, files and folders.
CREATE TABLE path (
    id INTEGER PRIMARY KEY,
    root INTEGER NOT NULL,
    folded TEXT NOT NULL,
    UNIQUE (root, folded)
);

-- state: 0 being added, 1 in the stack, 2 removed. position counts from 1 at the bottom.
CREATE TABLE layer (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    state INTEGER NOT NULL,
    position INTEGER,
    laid INTEGER NOT NULL,
    name TEXT NOT NULL,
    version TEXT,
    source TEXT NOT NULL,
    source_kind TEXT NOT NULL,
    added_at TEXT NOT NULL,
    fit TEXT NOT NULL,
    files INTEGER NOT NULL,
    bytes INTEGER NOT NULL,
    won_files INTEGER NOT NULL DEFAULT 0,
    contested_files INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX layer_in_stack ON layer (position) WHERE state = 1;

CREATE TABLE entry (
    layer INTEGER NOT NULL,
    path INTEGER NOT NULL,
    spelled TEXT NOT NULL,
    hash BLOB NOT NULL,
    size_bytes INTEGER NOT NULL,
    modified INTEGER NOT NULL,
    executable INTEGER,
    member TEXT NOT NULL,
    PRIMARY KEY (layer, path)
) WITHOUT ROWID;
CREATE INDEX entry_at_path ON entry (path, layer);

-- Folders that a layer needs, as it spells them.
CREATE TABLE layer_folder (
    layer INTEGER NOT NULL,
    path INTEGER NOT NULL,
    spelled TEXT NOT NULL,
    PRIMARY KEY (layer, path)
) WITHOUT ROWID;
CREATE INDEX layer_folder_at_path ON layer_folder (path, layer);

CREATE TABLE blob (
    hash BLOB PRIMARY KEY,
    size_bytes INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE revision (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    made_at TEXT NOT NULL,
    command TEXT NOT NULL,
    arrangement TEXT NOT NULL
);

-- The mark: while a row is here, a change is under way. direction: 1 forward, -1 back.
CREATE TABLE journal (
    only_row INTEGER PRIMARY KEY CHECK (only_row = 1),
    direction INTEGER NOT NULL,
    command TEXT NOT NULL,
    begun_at TEXT NOT NULL,
    outcome TEXT NOT NULL
);
-- While a row is here, contents may lie in the ledger that `blob` does not list yet.
CREATE TABLE intake (
    only_row INTEGER PRIMARY KEY CHECK (only_row = 1)
);
CREATE TABLE step (
    number INTEGER PRIMARY KEY,
    kind INTEGER NOT NULL,
    private TEXT,
    public TEXT NOT NULL
);
";

/// A layer has a variant; the mark of contents being taken in is a file of its own.
const VARIANT_AND_MARK: &str = "
ALTER TABLE layer ADD COLUMN variant TEXT;
DROP TABLE intake;
";

/// Adopted layers lie on addresses whose original nobody knows. An entry whose hash is all zeros takes away
/// what lies beneath.
const UNKNOWN_ORIGINALS: &str = "
CREATE TABLE unknown_original (
    root INTEGER NOT NULL,
    folded TEXT NOT NULL,
    spelled TEXT NOT NULL,
    PRIMARY KEY (root, folded)
) WITHOUT ROWID;
";

/// What decides where layers meet. Entries from before do not blend: what lies on disk is as it was laid. kind of
/// an entry: 0 file, 1 file that never blends, 2 changes to keys. The index holds all that contests need.
const MEETING: &str = "
ALTER TABLE entry ADD COLUMN kind INTEGER NOT NULL DEFAULT 1;
DROP INDEX entry_at_path;
CREATE INDEX entry_at_path ON entry (path, layer, hash, kind);
ALTER TABLE layer ADD COLUMN open_files INTEGER NOT NULL DEFAULT 0;
UPDATE layer SET open_files = contested_files;
ALTER TABLE layer ADD COLUMN needs TEXT;
ALTER TABLE layer ADD COLUMN own_edits INTEGER NOT NULL DEFAULT 0;
ALTER TABLE game ADD COLUMN version_pattern TEXT;
ALTER TABLE game ADD COLUMN blend_rules TEXT;

-- What the user settled at an address: the sides as they were then, and which of them wins, if one does.
CREATE TABLE settlement (
    path INTEGER NOT NULL,
    layer INTEGER NOT NULL,
    hash BLOB NOT NULL,
    wins INTEGER NOT NULL,
    PRIMARY KEY (path, layer)
) WITHOUT ROWID;

-- What blending gives, by a hash of all that goes into it. Can always be made anew.
CREATE TABLE blend (
    recipe BLOB PRIMARY KEY,
    outcome TEXT NOT NULL
) WITHOUT ROWID;
";

/// Living with a game: files that it writes by itself, foreign programs, what is under way between two commands,
/// and how a layer came to be that a program made.
const LIVING: &str = "
ALTER TABLE game ADD COLUMN volatile TEXT;
ALTER TABLE game ADD COLUMN runner TEXT;
ALTER TABLE layer ADD COLUMN made_by TEXT;

-- What a person has begun and not ended yet, such as a patch day; no change of disk is under way.
CREATE TABLE ongoing (
    only_row INTEGER PRIMARY KEY CHECK (only_row = 1),
    kind TEXT NOT NULL,
    begun_at TEXT NOT NULL,
    about TEXT NOT NULL
);

-- The revision for which what layers want cleared was cleared last.
CREATE TABLE cleared (
    only_row INTEGER PRIMARY KEY CHECK (only_row = 1),
    revision INTEGER NOT NULL
);
";

/// A layer can take folders of the game away.
const FOLDERS_AWAY: &str = "
ALTER TABLE layer_folder ADD COLUMN takes_away INTEGER NOT NULL DEFAULT 0;
";

/// What a person has agreed that layers start or clear, by a hash of just that.
const AGREEMENTS: &str = "
CREATE TABLE agreement (
    hash BLOB PRIMARY KEY,
    layer TEXT NOT NULL,
    agreed_at TEXT NOT NULL
) WITHOUT ROWID;
";

/// Contents that were read and found whole since a command was cut short; until then each is read when it is first used.
const DOUBTS: &str = "
CREATE TABLE cut_short (
    only_row INTEGER PRIMARY KEY CHECK (only_row = 1)
);
CREATE TABLE whole_since (
    hash BLOB PRIMARY KEY
) WITHOUT ROWID;
";

/// Addresses whose names tell nothing, and at which files blended for what they hold.
const GUESSES: &str = "
CREATE TABLE settings_by_content (
    path INTEGER PRIMARY KEY
);
";

/// Folders that were to go and could not.
const FOLDERS_LEFT: &str = "
CREATE TABLE folder_left (
    path TEXT PRIMARY KEY
) WITHOUT ROWID;
";

/// Several games may use one folder.
const SHARED_ROOTS: &str = "
ALTER TABLE root ADD COLUMN share INTEGER NOT NULL DEFAULT 0;
";

/// Going back: which revision a change was made on (none: the one before it), which one it brings back, what it changed
/// beside the order of the layers, as that was, and how many files it touched; names for states; lineups.
const HISTORY: &str = "
ALTER TABLE revision ADD COLUMN parent INTEGER;
ALTER TABLE revision ADD COLUMN restores INTEGER;
ALTER TABLE revision ADD COLUMN before TEXT;
ALTER TABLE revision ADD COLUMN did TEXT;
CREATE TABLE state_name (
    name TEXT PRIMARY KEY COLLATE NOCASE,
    revision INTEGER NOT NULL
) WITHOUT ROWID;

-- Arrangements to switch between: the layers from the bottom to the top, what was settled, and when it was saved.
CREATE TABLE lineup (
    name TEXT PRIMARY KEY COLLATE NOCASE,
    arrangement TEXT NOT NULL,
    settled TEXT NOT NULL,
    saved_at TEXT NOT NULL
) WITHOUT ROWID;
";

/// Brings the catalogue to the present format, in one transaction.
pub(super) fn migrate(connection: &mut Connection, found: i64) -> Result<()> {
    let transaction = connection.transaction()?;
    for step in STEPS.iter().skip(usize::try_from(found).unwrap_or(0)) {
        transaction.execute_batch(step)?;
    }
    transaction.pragma_update(None, "application_id", APPLICATION)?;
    transaction.pragma_update(None, "user_version", FORMAT)?;
    transaction.commit()
}

/// Layers change members of containers: an entry of kind 4 lists those of one layer in one container, and what it does with
/// each is an entry of its own, at an address with `!/` in it.
const CONTAINERS: &str = "
CREATE INDEX members_at_path ON entry (path) WHERE kind = 4;

ALTER TABLE game ADD COLUMN later_wins TEXT;

-- What the game's container has at a member's address, as it was when that was last decided on; all zeros for nothing.
CREATE TABLE member_seen (
    path INTEGER PRIMARY KEY,
    hash BLOB NOT NULL
);
";

/// Contents that are laid as links, and second folders of the game, each for a lineup; `roots` is JSON: the folder for each root by number, null where it is left out. Of
/// what was put there: its size and time there, and the hash and the time of what it was made of.
const BUILT_AND_LINKED: &str = "
CREATE TABLE built (
    id INTEGER PRIMARY KEY,
    lineup TEXT NOT NULL UNIQUE COLLATE NOCASE,
    roots TEXT NOT NULL,
    by_link INTEGER NOT NULL,
    is_finished INTEGER NOT NULL,
    made_at TEXT NOT NULL
);
CREATE TABLE built_thing (
    built INTEGER NOT NULL REFERENCES built (id),
    is_planned INTEGER NOT NULL,
    root INTEGER NOT NULL,
    path TEXT NOT NULL,
    kind INTEGER NOT NULL,
    size_bytes INTEGER NOT NULL,
    modified_ns INTEGER NOT NULL,
    hash BLOB,
    source_ns INTEGER NOT NULL,
    PRIMARY KEY (built, is_planned, root, path)
) WITHOUT ROWID;

-- How big files of layers are laid, as JSON; null for as usual.
ALTER TABLE game ADD COLUMN big_files TEXT;

-- Stored contents of which files in the game are further names: the time and the mode that they were given for that. One with
-- another time may have been written to.
CREATE TABLE linked_content (
    hash BLOB PRIMARY KEY,
    modified INTEGER NOT NULL,
    mode INTEGER NOT NULL
) WITHOUT ROWID;

-- What the game's containers have, as long as they have that size and time: paths with a zero between them, deflated; null for a file that is
-- none.
CREATE TABLE container_list (
    root INTEGER NOT NULL,
    folded TEXT NOT NULL,
    size_bytes INTEGER NOT NULL,
    modified_ns INTEGER NOT NULL,
    members BLOB,
    PRIMARY KEY (root, folded)
) WITHOUT ROWID;
";

/// Small contents lie in packs: the pack, and where in it the content begins; null for a content with a file of its own.
const PACKS: &str = "
ALTER TABLE blob ADD COLUMN pack INTEGER;
ALTER TABLE blob ADD COLUMN place INTEGER;
CREATE TABLE pack (
    number INTEGER PRIMARY KEY
);
";

/// Hashes of the parts of big files that containers are made from, one after the other. Can always be made anew.
const TREES: &str = "
CREATE TABLE tree (
    hash BLOB PRIMARY KEY,
    groups BLOB NOT NULL
) WITHOUT ROWID;
";

/// Where layers take something away is found at once; the steps of a change under way are one thing.
const TAKEN_AWAY_AND_STEPS: &str = "
CREATE INDEX taken_away_at_path ON entry (path)
    WHERE hash = x'0000000000000000000000000000000000000000000000000000000000000000';

-- The steps of the change under way. `step` has those that an earlier program left.
CREATE TABLE journal_steps (
    number INTEGER PRIMARY KEY,
    bytes BLOB NOT NULL
);
";

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_steps_run_on_an_empty_catalogue() {
        let mut connection = Connection::open_in_memory().unwrap();
        migrate(&mut connection, 0).unwrap();
        let found: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
        assert_eq!(found, FORMAT);
    }
}
