package places

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/account"
)

// What a service keeps in its home is data that may be moved; a person's home, and the administrator's, is not.
func TestHomesOfServicesAreFolders(t *testing.T) {
	homes := Homes("/home/ines")
	require.Contains(t, homes, "/home/ines")
	require.Contains(t, homes, "/root")
	all := []account.Entry{{Name: "root", Home: "/root"}, {Name: "burrow", UID: 114, Home: "/var/lib/burrow"},
		{Name: "ines", UID: 1000, Home: "/home/ines"}, {Name: "nobody", UID: 65534, Home: "/nonexistent"}}
	require.Equal(t, []account.Entry{all[1]}, account.Services(all))
	require.Equal(t, []string{"/root", "/home/ines", "/nonexistent"}, protectedHomes(all))
	all[1].Home = "/home/burrow"
	require.Contains(t, protectedHomes(all), "/home/burrow", "among people's")
}
