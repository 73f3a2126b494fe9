package draft

import (
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// Setting is a setting as it stands in the workspace's own file.
type Setting struct {
	Line int
	Text string
}

// Settings gives the settings that a change gives another value, as they will stand.
func (c Change) Settings() (out []Setting) {
	if c.Name != policyfile.SettingsFile {
		return nil
	}
	was, errOld := splice.Parse(c.Old)
	is, errNew := splice.Parse(c.New)
	if errOld != nil || errNew != nil {
		return nil // the change is refused for that
	}
	for _, field := range policyfile.Settings().Fields {
		if text := is.Written(field.Name); text != "" && text != was.Written(field.Name) {
			out = append(out, Setting{is.Get(field.Name).Line, text})
		}
	}
	return out
}

// SetSetting gives a setting a value, or takes it out where the value is nil. A new one stands beside the others.
func (d *Draft) SetSetting(key string, value *yaml.Node) error {
	f, err := d.yaml(policyfile.SettingsFile)
	if err != nil {
		return err
	}
	if value != nil {
		var others []string
		for _, field := range policyfile.Settings().Fields {
			others = append(others, field.Name)
		}
		return f.SetBehind(value, key, append(others, policyfile.Version))
	}
	if f.Get(key) == nil {
		return nil
	}
	return f.Delete(0, key)
}

// ChangeSetting puts items into the list of a setting, and takes others out.
func (d *Draft) ChangeSetting(key string, items Items) error {
	f, err := d.yaml(policyfile.SettingsFile)
	if err != nil {
		return err
	}
	if f.Get(key) == nil && len(items.Add) > 0 {
		if err := d.SetSetting(key, splice.List(items.Add...)); err != nil {
			return err
		}
	}
	for _, item := range items.Add {
		if !holds(f.Items(key), item) {
			if err := f.Append(item, key); err != nil {
				return err
			}
		}
	}
	for _, item := range items.Drop {
		i := indexOf(f.Items(key), item)
		if i < 0 {
			return refuse("see "+policyfile.SettingsFile, "%s of the workspace does not name %s", key, splice.Flow(item))
		}
		if err := f.Drop(i, 0, key); err != nil {
			return err
		}
	}
	return nil
}
