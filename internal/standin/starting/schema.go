package starting

import (
	"encoding/json"

	"hiddengate/internal/standin"
)

// node is a part of a schema.
type node = map[string]any

// Schema writes the JSON Schema (2020-12) of a stand-in's access settings.
func (k *Kind) Schema() ([]byte, error) {
	text := node{"type": "string"}
	texts := node{"type": "array", "items": text}
	yes := node{"type": "boolean"}
	permits := node{
		"description": "rights by place: the place itself, with /* behind it what is inside too; . is the stand-in " +
			"itself, and * the stand-in with all that is in it",
		"type": "object",
		"additionalProperties": node{"type": "array",
			"items": node{"enum": standin.RightsOf(k.Commands)}},
	}
	closed := func(about string, properties node) node {
		return node{"description": about, "type": "object", "properties": properties, "additionalProperties": false}
	}
	all := func(one node) node { return node{"type": "object", "additionalProperties": one} }
	account := node{"note": text, "ends": node{"type": "string", "format": "date-time"}, "locked": yes, "keeper": yes}
	properties := node{"everybody": permits}
	if k.Name == "application" {
		account["roles"], account["second-factor"] = texts, yes
		properties["roles"] = all(closed("what somebody may do who has chosen it", node{"note": text, "permits": permits}))
	} else {
		account["keys"], account["permits"] = texts, permits
		account["ranks"] = all(node{"type": "integer", "minimum": 1})
		properties["teams"] = all(closed("accounts that may do the same",
			node{"note": text, "members": texts, "permits": permits}))
	}
	properties["accounts"] = all(closed("somebody who may sign in", account))
	out := closed("Access settings of the simulated "+k.About, properties)
	out["$schema"], out["required"] = "https://json-schema.org/draft/2020-12/schema", []string{"accounts"}
	return json.MarshalIndent(out, "", "  ")
}
