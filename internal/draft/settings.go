package draft

import (
	"slices"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// Settings writes settings as they will stand, those of some keys that have a value.
func (d *Draft) Settings(keys []string) (out []string, err error) {
	f, err := d.yaml(policyfile.SettingsFile)
	if err != nil {
		return nil, err
	}
	for _, key := range keys {
		if text := f.Written(key); text != "" {
			out = append(out, text)
		}
	}
	return out, nil
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
	for _, item := range items.Add {
		switch {
		case f.Get(key) == nil:
			if err := d.SetSetting(key, splice.List(item)); err != nil {
				return err
			}
		case !holds(f.Items(key), item):
			if err := f.Append(item, key); err != nil {
				return err
			}
		}
	}
	for _, item := range items.Drop {
		i := slices.IndexFunc(f.Items(key), func(c *yaml.Node) bool { return splice.Flow(c) == splice.Flow(item) })
		if i < 0 {
			return refuse("see "+policyfile.SettingsFile, "%s of the workspace does not name %s", key, splice.Flow(item))
		}
		if err := f.Drop(i, 0, key); err != nil {
			return err
		}
	}
	return nil
}
