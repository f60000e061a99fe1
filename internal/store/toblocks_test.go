package store

import (
	"fmt"
	"testing"
)

// TestRowsBecomeBlocks takes lists from before blocks through the migration: all
// that stood in their rows is there after.
func TestRowsBecomeBlocks(t *testing.T) {
	s := migratedTo(t, 17)
	_, err := s.pool.Exec(t.Context(), `
		INSERT INTO workspace (name) VALUES ('ours');
		INSERT INTO list (workspace_id, name, file_name, dialect, columns, address_columns, header, rows, addresses)
			SELECT 1, 'members', '', '{}', '{e-mail}', '{0}', '', 1200, 1200 FROM generate_series(1, 2);
		INSERT INTO list_row (list_id, ordinal, line, raw, tail, typed, address, mailbox, domain, traits, mended, problem)
			SELECT l, n, n * 2, convert_to(l || ' raw ' || n, 'UTF8'), CASE WHEN n = 7 THEN '\x0a'::bytea END, 'A' || n || '@Seed.example',
				CASE n WHEN 3 THEN null WHEN 4 THEN 2 ELSE n END, CASE WHEN n NOT IN (3, 4, 5) THEN 'A' || n || '@seed.example' END,
				CASE WHEN n NOT IN (3, 4, 5) THEN 'seed.example' END, CASE n WHEN 6 THEN '{role,tagged}'::text[] END,
				CASE n WHEN 6 THEN '{"a space, taken off",b}'::text[] END, CASE n WHEN 5 THEN '{"cause": "syntax.malformed", "position": 4, "reason": "no @"}'::jsonb END
			FROM generate_series(1, 2) l, generate_series(1, 1200) n;
		INSERT INTO list_text (list_id, last, ordinals, texts) VALUES (1, 1, '{1}', 'a1@seed.example')`)
	if err == nil {
		err = s.Migrate(t.Context())
	}
	if err != nil {
		t.Fatal(err)
	}
	for list := int64(1); list <= 2; list++ {
		n := int32(0)
		err := s.eachCell(t.Context(), list, 1, 5000, true, func(r *Row) error {
			n++
			plain := n < 3 || n > 5
			if r.Ordinal != n || r.Line != int64(n)*2 || string(r.Raw) != fmt.Sprint(list, " raw ", n) || (string(r.Tail) == "\n") != (n == 7) ||
				r.Typed != fmt.Sprintf("A%d@Seed.example", n) || plain != (r.Mailbox == fmt.Sprintf("A%d@seed.example", n)) || plain != (r.Domain == "seed.example") ||
				(len(r.Traits) == 2) != (n == 6) || (len(r.Mended) == 2 && r.Mended[0] == "a space, taken off") != (n == 6) {
				t.Errorf("%+v", r)
			}
			return nil
		})
		if err != nil || n != 1200 {
			t.Errorf("%d cells, %v", n, err)
		}
		cells, err := s.cellsAt(t.Context(), list, []int32{3, 4, 5}, false)
		if p := cells[5].Problem; err != nil || cells[3].Address != 0 || cells[4].Address != 2 || p == nil || *p != (Problem{Cause: "syntax.malformed", Position: 4, Reason: "no @"}) {
			t.Errorf("%+v, %v", cells, err)
		}
		if found, err := s.withText(t.Context(), list, "A119"); err != nil || len(found) != 11 {
			t.Errorf("found by text: %v, %v", found, err)
		}
	}
}
