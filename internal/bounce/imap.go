package bounce

import (
	"context"
	"crypto/tls"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"varnet/core/bounce"
	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/letter"
	"varnet/internal/store"
)

// The bounds of a look at a mailbox.
const (
	mailboxWait  = 20 * time.Second // for the greeting and sign-in
	mailboxSlice = 2 * time.Minute  // for the whole of a look
	mostALook    = 2000             // messages
	fetchedAtOne = 50               // in one command
)

// readMailbox imports the messages that came after the last one that was read, in the order of
// their UIDs (RFC 9051, section 2.3.1.1), and does with each what is wanted; more reports
// whether some remain.
func (s *Sources) readMailbox(ctx context.Context, b *store.BounceSource) (all Imported, more bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, mailboxSlice)
	defer cancel()
	c, err := s.openMailbox(ctx, *b)
	if err != nil {
		return all, false, err
	}
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer func() { stop(); _ = c.Logout().Wait(); _ = c.Close() }()
	uids, err := newMessages(c, b)
	if err != nil {
		return all, false, err
	}
	more = len(uids) > mostALook
	uids = uids[:min(len(uids), mostALook)]
	for len(uids) > 0 {
		some := uids[:min(len(uids), fetchedAtOne)]
		uids = uids[len(some):]
		imported, err := s.importSome(ctx, c, *b, some)
		if err != nil {
			return all, false, err
		}
		all.add(imported)
		if err := markImported(c, *b, some); err != nil {
			return all, false, err
		}
		b.LastUID = int64(some[len(some)-1])
		if err := s.Desk.Store.SetBounceSourceRead(ctx, *b, imported.Messages-imported.Known); err != nil {
			return all, false, err
		}
	}
	return all, more, s.Desk.Store.SetBounceSourceRead(ctx, *b, 0)
}

// openMailbox connects to the server of a mailbox and signs in.
func (s *Sources) openMailbox(ctx context.Context, b store.BounceSource) (*imapclient.Client, error) {
	at := net.JoinHostPort(b.Host, strconv.Itoa(b.Port))
	conn, err := s.Env.Dial(ctx, "tcp", at)
	if err != nil {
		return nil, connect.Unreachable(at, err)
	}
	_ = conn.SetDeadline(time.Now().Add(mailboxWait))
	options := &imapclient.Options{TLSConfig: s.Env.TLSFor(b.Host)}
	var c *imapclient.Client
	switch letter.Security(b.Security) {
	case letter.TLS:
		c = imapclient.New(tls.Client(conn, options.TLSConfig), options)
	case letter.StartTLS:
		c, err = imapclient.NewStartTLS(conn, options)
	default:
		c = imapclient.New(conn, options)
	}
	if err == nil {
		err = c.WaitGreeting()
	}
	if err != nil {
		_ = conn.Close()
		return nil, connect.Troublef("%s does not answer as an IMAP server: %s.", at, letter.Shown(err.Error()))
	}
	password, err := s.Secrets.Open(b.Sealed, sourcePurpose)
	if err != nil {
		_ = c.Close()
		return nil, connect.Troublef("Its password cannot be opened; was the secret changed? Set it again.")
	}
	if err := c.Login(b.Username, password).Wait(); err != nil {
		_ = c.Close()
		return nil, connect.Troublef("%s does not let %s in: %s.", at, b.Username, letter.Shown(err.Error()))
	}
	_ = conn.SetDeadline(time.Now().Add(mailboxSlice))
	return c, nil
}

// newMessages selects the folder and returns the UIDs of the messages after the last one that
// was read. A folder that was made anew is read from its beginning.
func newMessages(c *imapclient.Client, b *store.BounceSource) ([]imap.UID, error) {
	selected, err := c.Select(b.Folder, nil).Wait()
	if err != nil {
		return nil, connect.Troublef("The folder %s cannot be opened: %s.", b.Folder, letter.Shown(err.Error()))
	}
	if int64(selected.UIDValidity) != b.UIDValidity {
		b.UIDValidity, b.LastUID = int64(selected.UIDValidity), 0
	}
	found, err := c.UIDSearch(&imap.SearchCriteria{UID: []imap.UIDSet{{imap.UIDRange{Start: imap.UID(b.LastUID + 1), Stop: 0}}}}, nil).Wait()
	if err != nil {
		return nil, connect.Troublef("The folder %s cannot be searched: %s.", b.Folder, letter.Shown(err.Error()))
	}
	var uids []imap.UID
	for _, uid := range found.AllUIDs() {
		if int64(uid) > b.LastUID { // n:* holds the last message, whatever n is
			uids = append(uids, uid)
		}
	}
	return uids, nil
}

// importSome imports some messages, as many bytes of each as are read.
func (s *Sources) importSome(ctx context.Context, c *imapclient.Client, b store.BounceSource, uids []imap.UID) (Imported, error) {
	body := &imap.FetchItemBodySection{Peek: true, Partial: &imap.SectionPartial{Size: bounce.Most}}
	fetch := c.Fetch(imap.UIDSetNum(uids...), &imap.FetchOptions{UID: true, BodySection: []*imap.FetchItemBodySection{body}})
	imported, err := s.Desk.Import(ctx, b.WorkspaceID, ByMailbox, func() (Incoming, error) {
		for {
			m := fetch.Next()
			if m == nil {
				return Incoming{}, io.EOF
			}
			got, err := m.Collect()
			if err != nil {
				return Incoming{}, err
			}
			if raw := got.FindBodySection(body); len(raw) > 0 {
				return Incoming{Raw: raw}, nil
			}
		}
	})
	if closed := fetch.Close(); err == nil && closed != nil {
		err = connect.Troublef("A message cannot be read: %s.", letter.Shown(closed.Error()))
	}
	return imported, err
}

// markImported marks messages that were imported as seen, moves or deletes them, as is wanted.
func markImported(c *imapclient.Client, b store.BounceSource, uids []imap.UID) error {
	set := imap.UIDSetNum(uids...)
	flag := func(f imap.Flag) error {
		return c.Store(set, &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true, Flags: []imap.Flag{f}}, nil).Close()
	}
	var err error
	switch b.Then {
	case store.ThenMove:
		if _, err = c.Move(set, b.ThenFolder).Wait(); err != nil && strings.Contains(strings.ToUpper(err.Error()), "TRYCREATE") {
			if err = c.Create(b.ThenFolder, nil).Wait(); err == nil {
				_, err = c.Move(set, b.ThenFolder).Wait()
			}
		}
	case store.ThenDelete:
		if !c.Caps().Has(imap.CapUIDPlus) && !c.Caps().Has(imap.CapIMAP4rev2) {
			return connect.Troublef("The server cannot delete single messages (UIDPLUS, RFC 4315). Have them moved.")
		}
		if err = flag(imap.FlagDeleted); err == nil {
			err = c.UIDExpunge(set).Close()
		}
	default:
		err = flag(imap.FlagSeen)
	}
	if err != nil {
		return connect.Troublef("%s imported, but the server would not %s: %s.", say.Plural(int64(len(uids)), "message is", "messages are"), b.Then+" them", letter.Shown(err.Error()))
	}
	return nil
}
