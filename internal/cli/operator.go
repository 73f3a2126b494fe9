package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/private"
)

// settingsVariable names the file with the user's own settings.
const settingsVariable = "HGATE_SETTINGS"

// settingsFile names the file with the user's own settings, by the XDG Base Directory Specification.
func settingsFile() (string, error) {
	if name := os.Getenv(settingsVariable); name != "" {
		if !filepath.IsAbs(name) {
			return "", fmt.Errorf("%s is %q: write an absolute path", settingsVariable, name)
		}
		return name, nil
	}
	dir := os.Getenv("XDG_CONFIG_HOME")
	if !filepath.IsAbs(dir) {
		home, err := os.UserHomeDir()
		if err != nil || !filepath.IsAbs(home) {
			return "", nil // whoever has no home has no settings
		}
		dir = filepath.Join(home, ".config")
		if runtime.GOOS == "windows" {
			if dir, err = os.UserConfigDir(); err != nil {
				return "", nil
			}
		}
	}
	return filepath.Join(dir, private.Program, "settings.yaml"), nil
}

// operator reads what the user's own settings say of a workspace.
func operator(dir string) (*policyfile.Operator, error) {
	name, err := settingsFile()
	if err != nil || name == "" {
		return &policyfile.Operator{}, err
	}
	info, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) && os.Getenv(settingsVariable) == "" {
		return &policyfile.Operator{}, nil
	}
	if err != nil {
		return nil, outside{fmt.Errorf("your settings cannot be read: %w", err)}
	}
	if !private.Trusted(info) || private.Writable(info) {
		return nil, outside{
			fmt.Errorf("your settings %s are not taken: somebody else may write them; do: chmod go-w %s", name,
				name),
		}
	}
	if inside, err := within(dir, name); err != nil || inside {
		return nil, outside{fmt.Errorf("your settings %s lie in the workspace, from which none are taken", name)}
	}
	all, err := policyfile.ReadOperator(os.DirFS(filepath.Dir(name)), filepath.Base(name))
	if err != nil {
		return nil, err
	}
	folders, err := foldersOf(dir)
	if err != nil {
		return nil, err
	}
	for _, folder := range folders {
		if one := all[folder]; one != nil {
			return one, nil
		}
	}
	return &policyfile.Operator{}, nil
}

// foldersOf gives the whole paths under which settings can name a workspace: without links, and as it was found.
func foldersOf(dir string) ([]string, error) {
	path, err := filepath.Abs(dir)
	if err != nil {
		return nil, outside{err}
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil, outside{err}
	}
	return []string{real, path}, nil
}

// toPrint is how long a command may take to print a secret.
const toPrint = 30 * time.Second

// printed gives what a command of the user's own settings prints.
func printed(command []string) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), toPrint)
	defer cancel()
	c := exec.CommandContext(ctx, command[0], command[1:]...)
	c.WaitDelay = time.Second
	text, err := c.Output()
	if err == nil && len(text) > maxSecret {
		err = errors.New("it prints too much")
	}
	if err != nil {
		return "", fmt.Errorf("the command %s of your settings, which should print a secret, failed: %w", command[0], err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

// maxSecret bounds how long a secret is, in bytes.
const maxSecret = 1 << 16

// reveal reads a secret from where it is.
func reveal(s policyfile.Secret) (string, error) {
	if s.Env != "" {
		text, ok := os.LookupEnv(s.Env)
		if !ok {
			return "", fmt.Errorf("the secret should stand in %s, which is not set", s.Env)
		}
		return text, nil
	}
	if len(s.Command) > 0 {
		return printed(s.Command)
	}
	if s.File == "" {
		return "", nil
	}
	text, err := private.ReadFile(s.File, maxSecret)
	if err != nil {
		return "", fmt.Errorf("the file of a secret cannot be read: %w", err)
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}
