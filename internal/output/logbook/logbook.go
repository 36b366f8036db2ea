// Package logbook keeps past builds: what was asked, what became of every step and why, and how long it took.
//
// It is a small database in a file that several processes may write to at once. It holds words and numbers alone; what
// commands printed lies in the store under the names that stand here. It knows no recipe and no image.
package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"imbricat/internal/ground/poll"
)

// The outcomes of a build.
const (
	Built       = "built"
	Failed      = "failed"
	Interrupted = "interrupted"
)

// Build is one build. Times are of the wall clock but for CPU.
type Build struct {
	Number  int64
	Project string // the project folder and its recipe
	Command string
	Recipe  string // digest of the recipe's text
	Facts   map[string]string
	Started time.Time
	Wall    time.Duration
	CPU     time.Duration // of all processors together
	Outcome string
	Error   string
	Images  []Image
	Ran     int
	Reused  int
	Spared  time.Duration // what reused steps took when they ran
}

// Image is an image that a build made.
type Image struct {
	Name   string `json:"name"`
	Digest string `json:"digest"`
	Bytes  int64  `json:"bytes"` // packed, over all platforms
}

// Step is what became of a step. Key, Trace, Inputs and Log name what the store holds of a command; of another step Trace is
// the diffID of its layer.
type Step struct {
	Unit     string
	Platform string
	Place    string // gauge:3
	Label    string
	Outcome  string
	Reason   string
	More     []string      // all that there is to say of the reason
	Began    time.Duration // after the build began; below 0: it is not known
	Wall     time.Duration
	CPU      time.Duration
	Spared   time.Duration
	Files    int
	Bytes    int64 // of the files
	Packed   int64 // of the layer
	Key      string
	Trace    string
	Inputs   string
	Log      string
}

// Book is an open logbook.
type Book struct {
	db   *sql.DB
	keep int
}

// Keep is how many builds a logbook holds; the oldest go first.
const Keep = 1000

// Ended is the outcome of a step that was begun and not done; the others are those of events.
const Ended = "ended"

// version is that of what the rows say.
const version = 1

// migrate brings rows of older programs up to date: these told steps that were begun and not done by their reason alone.
const migrate = `
update steps set outcome = 'ended' where outcome = 'skipped' and reason = 'the build ended first';
pragma user_version = 1;`

const schema = `
create table if not exists builds (
	number integer primary key autoincrement, project text not null, command text not null, recipe text not null, facts text not null,
	started integer not null, wall integer not null, cpu integer not null, outcome text not null, error text not null, images text not null,
	ran integer not null, reused integer not null, spared integer not null);
create table if not exists steps (
	build integer not null references builds(number) on delete cascade, position integer not null, unit text not null, platform text not null,
	place text not null, label text not null, outcome text not null, reason text not null, more text not null, wall integer not null,
	cpu integer not null, spared integer not null, files integer not null, bytes integer not null, packed integer not null,
	key text not null, trace text not null, inputs text not null, log text not null, primary key (build, position));
create table if not exists times (
	build integer not null references builds(number) on delete cascade, position integer not null, began integer not null, primary key (build, position)) without rowid;
create index if not exists steps_of_units on steps (unit, platform, build);
create index if not exists builds_of_projects on builds (project, number);`

// Open opens a logbook, and makes it where there is none. Keep bounds how many builds it holds; 0 stands for Keep.
func Open(file string, keep int) (*Book, error) {
	if keep == 0 {
		keep = Keep
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, fmt.Errorf("opening the logbook: %w", err)
	}
	// What commands printed is nobody else's business. The database gives its other files the mode of this one.
	own, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		err = errors.Join(own.Chmod(0o600), own.Close())
	}
	if err != nil {
		return nil, fmt.Errorf("opening the logbook: %w", err)
	}
	// Others may write at the same time: they wait for each other.
	name := url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath(), RawQuery: url.Values{"_pragma": {
		"busy_timeout(10000)", "journal_mode(wal)", "synchronous(normal)", "foreign_keys(on)"}, "_txlock": {"immediate"}}.Encode()}
	db, err := sql.Open("sqlite", name.String())
	if err == nil {
		if err = prepare(db); err != nil {
			db.Close()
		}
	}
	if err != nil {
		return nil, fmt.Errorf("opening the logbook %s: %w", file, err)
	}
	return &Book{db, keep}, nil
}

// longest is how long anybody waits for another process.
const longest = 10 * time.Second

// prepare brings a database up to date. While another process opens or closes it for the first or last time it is busy, and SQLite waits
// for that in some of the cases only.
func prepare(db *sql.DB) error {
	ctx, cancel := context.WithTimeout(context.Background(), longest)
	defer cancel()
	var last error
	err := poll.Until(ctx, 5*time.Millisecond, func() (bool, error) {
		last = bringUp(db)
		var busy *sqlite.Error
		if errors.As(last, &busy) && busy.Code()&0xff == sqlite3.SQLITE_BUSY {
			return false, nil
		}
		return true, last
	})
	if errors.Is(err, context.DeadlineExceeded) {
		return last
	}
	return err
}

// bringUp makes tables that are missing.
func bringUp(db *sql.DB) error {
	var have int
	_, err := db.Exec(schema)
	if err == nil {
		err = db.QueryRow("pragma user_version").Scan(&have)
	}
	if err == nil && have < version {
		_, err = db.Exec(migrate)
	}
	return err
}

// Close closes the logbook.
func (b *Book) Close() error { return b.db.Close() }

func encode(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return "null"
	}
	return string(text)
}

// Begin gives a new build its number. Until End tells how it went it counts as interrupted, which is what it is where
// the process is killed.
func (b *Book) Begin(build *Build) (err error) {
	result, err := b.db.Exec(`insert into builds (project, command, recipe, facts, started, wall, cpu, outcome, error, images, ran, reused, spared)
		values (?, ?, ?, ?, ?, 0, 0, ?, '', '[]', 0, 0, 0)`, build.Project, build.Command, build.Recipe, encode(build.Facts), build.Started.UnixMilli(), Interrupted)
	if err == nil {
		build.Number, err = result.LastInsertId()
	}
	if err != nil {
		return fmt.Errorf("writing to the logbook: %w", err)
	}
	return nil
}

// End keeps how a build went, all or nothing of it, and lets go of the oldest builds beyond the bound.
func (b *Book) End(build *Build, steps []Step) error {
	err := func() error {
		tx, err := b.db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if _, err := tx.Exec(`update builds set wall = ?, cpu = ?, outcome = ?, error = ?, images = ?, ran = ?, reused = ?, spared = ? where number = ?`,
			build.Wall.Milliseconds(), build.CPU.Milliseconds(), build.Outcome, build.Error, encode(build.Images), build.Ran, build.Reused, build.Spared.Milliseconds(), build.Number); err != nil {
			return err
		}
		insert, err := tx.Prepare(`insert into steps values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer insert.Close()
		began, err := tx.Prepare(`insert into times values (?, ?, ?)`)
		if err != nil {
			return err
		}
		defer began.Close()
		for i, s := range steps {
			if _, err := insert.Exec(build.Number, i, s.Unit, s.Platform, s.Place, s.Label, s.Outcome, s.Reason, encode(s.More), s.Wall.Milliseconds(), s.CPU.Milliseconds(),
				s.Spared.Milliseconds(), s.Files, s.Bytes, s.Packed, s.Key, s.Trace, s.Inputs, s.Log); err != nil {
				return err
			}
			if s.Began < 0 {
				continue
			}
			if _, err := began.Exec(build.Number, i, s.Began.Milliseconds()); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(`delete from builds where number <= (select max(number) from builds) - ?`, b.keep); err != nil {
			return err
		}
		return tx.Commit()
	}()
	if err != nil {
		return fmt.Errorf("writing to the logbook: %w", err)
	}
	return nil
}

const columns = `number, project, command, recipe, facts, started, wall, cpu, outcome, error, images, ran, reused, spared`

func scanBuild(scan func(...any) error) (Build, error) {
	var one Build
	var facts, images string
	var started, wall, cpu, spared int64
	err := scan(&one.Number, &one.Project, &one.Command, &one.Recipe, &facts, &started, &wall, &cpu, &one.Outcome, &one.Error, &images, &one.Ran, &one.Reused, &spared)
	if err == nil {
		err = errors.Join(json.Unmarshal([]byte(facts), &one.Facts), json.Unmarshal([]byte(images), &one.Images))
	}
	one.Started, one.Wall, one.CPU, one.Spared = time.UnixMilli(started), millis(wall), millis(cpu), millis(spared)
	return one, err
}

func millis(n int64) time.Duration { return time.Duration(n) * time.Millisecond }

// List returns builds, the latest first: those of a project, or all where that is empty. Most bounds how many.
func (b *Book) List(project string, most int) ([]Build, error) {
	rows, err := b.db.Query(`select `+columns+` from builds where ? in ('', project) order by number desc limit ?`, project, most)
	if err != nil {
		return nil, fmt.Errorf("reading the logbook: %w", err)
	}
	defer rows.Close()
	var all []Build
	for rows.Next() {
		one, err := scanBuild(rows.Scan)
		if err != nil {
			return nil, fmt.Errorf("reading the logbook: %w", err)
		}
		all = append(all, one)
	}
	return all, rows.Err()
}

// ErrNone is that there is no such build.
var ErrNone = errors.New("there is no such build in the logbook")

// Find returns a build with its steps, in their order.
func (b *Book) Find(number int64) (Build, []Step, error) {
	build, err := scanBuild(b.db.QueryRow(`select `+columns+` from builds where number = ?`, number).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return build, nil, fmt.Errorf("build %d: %w", number, ErrNone)
	}
	if err != nil {
		return build, nil, fmt.Errorf("reading the logbook: %w", err)
	}
	steps, err := b.steps(`build = ?`, number)
	return build, steps, err
}

// Last returns the number of the last build of a project.
func (b *Book) Last(project string) (int64, error) {
	list, err := b.List(project, 1)
	if err == nil && len(list) == 0 {
		err = ErrNone
	}
	if err != nil {
		return 0, err
	}
	return list[0].Number, nil
}

// Past returns the steps of a unit at the last build of its project that succeeded, or of the last at all where none did.
func (b *Book) Past(project, unit, platform string) ([]Step, error) {
	return b.steps(`unit = ?1 and platform = ?2 and build = (select build from steps join builds on build = number
		where unit = ?1 and platform = ?2 and project = ?3 order by builds.outcome = '`+Built+`' desc, build desc limit 1)`, unit, platform, project)
}

// recent is how many builds are asked for how long steps took.
const recent = 5

// Durations returns how long steps of a project took when they were done last, as its latest builds tell, by unit, platform and label.
func (b *Book) Durations(project string) (map[[3]string]time.Duration, error) {
	rows, err := b.db.Query(`select unit, platform, label, max(build), case outcome when 'reused' then steps.spared else steps.wall end from steps
		where outcome in ('ran', 'reused') and build in (select number from builds where project = ? order by number desc limit ?) group by unit, platform, label`, project, recent)
	if err != nil {
		return nil, fmt.Errorf("reading the logbook: %w", err)
	}
	defer rows.Close()
	all := map[[3]string]time.Duration{}
	for rows.Next() {
		var step [3]string
		var build, took int64
		if err := rows.Scan(&step[0], &step[1], &step[2], &build, &took); err != nil {
			return nil, fmt.Errorf("reading the logbook: %w", err)
		}
		all[step] = millis(took)
	}
	return all, rows.Err()
}

// Made returns the latest build that made an image, or an index, of a digest, and its steps; 0: none did.
func (b *Book) Made(image string) (number int64, steps []Step, err error) {
	err = b.db.QueryRow("select coalesce(max(number), 0) from builds, json_each(builds.images) where json_extract(value, '$.digest') = ?", image).Scan(&number)
	if err == nil && number > 0 {
		steps, err = b.steps("build = ?", number)
	}
	if err != nil {
		return 0, nil, fmt.Errorf("reading the logbook: %w", err)
	}
	return number, steps, nil
}

// Ran returns the latest run of a step that left what a later build reused, and its build; 0: it is not in the logbook.
func (b *Book) Ran(reused Step) (number int64, ran Step, err error) {
	if reused.Trace == "" {
		return 0, ran, nil
	}
	const same = "unit = ?1 and platform = ?2 and label = ?3 and trace = ?4 and outcome = 'ran'"
	args := []any{reused.Unit, reused.Platform, reused.Label, reused.Trace}
	err = b.db.QueryRow("select coalesce(max(build), 0) from steps where "+same, args...).Scan(&number)
	if err != nil || number == 0 {
		return 0, ran, err
	}
	all, err := b.steps(same+" and build = ?5", append(args, number)...)
	if err != nil || len(all) == 0 {
		return 0, ran, err
	}
	return number, all[0], nil
}

// Reuses returns how often each run of a command was reused by builds that the logbook holds, by its key and its trace.
func (b *Book) Reuses() (map[[2]string]int, error) {
	rows, err := b.db.Query("select key, trace, count(*) from steps where outcome = 'reused' and key != '' group by key, trace")
	if err != nil {
		return nil, fmt.Errorf("reading the logbook: %w", err)
	}
	defer rows.Close()
	all := map[[2]string]int{}
	for rows.Next() {
		var run [2]string
		var n int
		if err := rows.Scan(&run[0], &run[1], &n); err != nil {
			return nil, fmt.Errorf("reading the logbook: %w", err)
		}
		all[run] = n
	}
	return all, rows.Err()
}

func (b *Book) steps(where string, args ...any) ([]Step, error) {
	rows, err := b.db.Query(`select unit, platform, place, label, outcome, reason, more, wall, cpu, spared, files, bytes, packed, key, trace, inputs, log, coalesce(began, -1)
		from steps left join times using (build, position) where `+where+` order by position`, args...)
	if err != nil {
		return nil, fmt.Errorf("reading the logbook: %w", err)
	}
	defer rows.Close()
	var all []Step
	for rows.Next() {
		var s Step
		var more string
		var wall, cpu, spared, began int64
		if err := rows.Scan(&s.Unit, &s.Platform, &s.Place, &s.Label, &s.Outcome, &s.Reason, &more, &wall, &cpu, &spared, &s.Files, &s.Bytes, &s.Packed, &s.Key, &s.Trace, &s.Inputs, &s.Log, &began); err != nil {
			return nil, fmt.Errorf("reading the logbook: %w", err)
		}
		if err := json.Unmarshal([]byte(more), &s.More); err != nil {
			return nil, fmt.Errorf("reading the logbook: %w", err)
		}
		s.Wall, s.CPU, s.Spared, s.Began = millis(wall), millis(cpu), millis(spared), millis(began)
		all = append(all, s)
	}
	return all, rows.Err()
}
