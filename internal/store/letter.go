package store

import "context"

// LetterServer is the submission server by which the installation sends letters.
type LetterServer struct {
	Host     string
	Port     int
	Security string // tls, starttls or none
	Username string // "": without sign-in
	Sealed   []byte // the password
	Sender   string // name and address
	BaseURL  string // where people reach the console
}

// LetterServer returns it; ErrNotFound where none is set up.
func (s *Store) LetterServer(ctx context.Context) (LetterServer, error) {
	return one[LetterServer](ctx, s.db, "SELECT host, port, security, username, sealed, sender, base_url FROM letter_server")
}

// SetLetterServer records it.
func (s *Store) SetLetterServer(ctx context.Context, l LetterServer) error {
	_, err := s.db.Exec(ctx, `INSERT INTO letter_server (host, port, security, username, sealed, sender, base_url) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (one) DO UPDATE SET host = $1, port = $2, security = $3, username = $4, sealed = $5, sender = $6, base_url = $7`,
		l.Host, l.Port, l.Security, l.Username, l.Sealed, l.Sender, l.BaseURL)
	return err
}

// RemoveLetterServer forgets it; no letter is sent from then on.
func (s *Store) RemoveLetterServer(ctx context.Context) error {
	_, err := s.db.Exec(ctx, "DELETE FROM letter_server")
	return err
}
