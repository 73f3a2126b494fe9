package cli

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"

	"hiddengate/internal/private"
	"hiddengate/internal/standin"
	"hiddengate/internal/target"
)

// firstPasswords draws the first passwords of the accounts that a plan makes, and keeps them in a file that the user
// alone may read: they stand nowhere else. It gives the file's name; "" if there are none.
func firstPasswords(system string, plan *target.Plan) (name string, err error) {
	if len(plan.First) == 0 {
		return "", nil
	}
	state, err := private.State()
	if err != nil {
		return "", err
	}
	folder := filepath.Join(state, private.Program, "first-passwords")
	if err := private.Folder(folder); err != nil {
		return "", err
	}
	f, err := os.CreateTemp(folder, system+"-*.csv")
	if err != nil {
		return "", err
	}
	defer f.Close()
	plan.Passwords = map[string]string{}
	rows := [][]string{{"account", "password"}}
	for _, account := range plan.First {
		plan.Passwords[account] = standin.RandomPassword()
		rows = append(rows, []string{account, plan.Passwords[account]})
	}
	if err = csv.NewWriter(f).WriteAll(rows); err == nil {
		err = f.Sync()
	}
	if err != nil {
		os.Remove(f.Name())
		return "", err
	}
	return f.Name(), nil
}

// passwordsNamed reads from the answer to a push where the first passwords are; "" if there are none.
func passwordsNamed(answer []byte) (string, error) {
	var out struct {
		Name string `json:"first-passwords"`
	}
	err := json.Unmarshal(answer, &out)
	return out.Name, err
}
