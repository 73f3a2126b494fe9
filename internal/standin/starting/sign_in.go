package starting

import (
	"net"
	"path/filepath"

	"hiddengate/internal/standin/network"
	"hiddengate/internal/standin/web"
)

const asJSON = `'{"account": "NAME", "password": "PASSWORD"}'`

func shellSignIn(at, folder string) []string {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil
	}
	return []string{
		"ssh -p " + port + " -o UserKnownHostsFile=" + filepath.Join(folder, network.KnownHosts) + " NAME@" + host,
	}
}

func plainSignIn(at, _ string) []string {
	return []string{"open http://" + at + " in a browser, or:", "curl http://" + at + "/sign-in --data " + asJSON,
		"curl http://" + at + "/help -H 'Authorization: Bearer TOKEN'"}
}

func secureSignIn(at, folder string) []string {
	authority := " --cacert " + filepath.Join(folder, web.AuthorityFile)
	return []string{"curl" + authority + " https://" + at + "/sign-in --data " + asJSON,
		"curl" + authority + " https://" + at + "/help -H 'Authorization: Bearer TOKEN'"}
}

func certifiedSignIn(at, folder string) []string {
	authority := " --cacert " + filepath.Join(folder, web.AuthorityFile)
	return []string{"curl" + authority + " https://" + at + `/certificate-requests --data '{"account": "NAME", ` +
		`"password": "PASSWORD", "request": "REQUEST"}'`,
		"curl" + authority + " --cert NAME.pem https://" + at + "/help"}
}
