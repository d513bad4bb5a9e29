// Package desktop shows notifications, by the Desktop Notifications Specification.
package desktop

import (
	"html"
	"slices"

	"github.com/godbus/dbus/v5"
)

// A Session is a person's desktop that can be told.
type Session struct {
	conn   *dbus.Conn
	markup bool // it takes the text of a notification for markup
}

// Open finds the desktop of the account that runs this. The error is that of its bus.
func Open() (*Session, error) {
	conn, err := dbus.ConnectSessionBus()
	if err != nil {
		return nil, err
	}
	s := &Session{conn: conn}
	var can []string
	if s.notifications().Call(service+".GetCapabilities", 0).Store(&can) == nil {
		s.markup = slices.Contains(can, "body-markup")
	} else {
		s.markup = true // one that does not say may take it for that
	}
	return s, nil
}

const service = "org.freedesktop.Notifications"

func (s *Session) notifications() dbus.BusObject {
	return s.conn.Object(service, "/org/freedesktop/Notifications")
}

// Notify shows a title and a text, either of which may come from a drive.
func (s *Session) Notify(title, body string) error {
	if s.markup {
		body = html.EscapeString(body)
	}
	return s.notifications().Call(service+".Notify", 0,
		"nexlin", uint32(0), "drive-harddisk", title, body, []string{}, map[string]dbus.Variant{}, int32(-1)).Err
}
