package gate

import (
	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
	"hiddengate/internal/gate/opset"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/gate/unitrow"
	"hiddengate/internal/region"
)

// Normal is the normal form to which a gate compiles an estate. It is there for the packages beneath this one, which
// count, compare and audit by it, and nobody writes into it.
type Normal struct {
	Facts   factspace.Facts
	Classes *opset.Classes
	Places  *placemap.Map
	Units   unitrow.Units
	Rows    unitrow.Rows
	ClassOf []uint32 // of each subject; those of one class are in the same lists
	Roles   map[string]*CompiledRole
	Grants  []*CompiledGrant // by id
	Which   Counting
}

// CompiledSubject is a person, a service or anonymous with the entries whose `to` has it.
type CompiledSubject struct {
	*estate.Subject
	principal estate.Principal
	number    int
	active    region.Region
	Grants    []*CompiledGrant
	Blocks    []*CompiledBlock
	at        *spotGrants // nil until it is asked for
	single    bool        // there is one possible session where none is named, whatever is lent
}

// CompiledRole is a role with what it comes to, included roles and all.
type CompiledRole struct {
	*estate.Role
	number     uint32
	Operations map[string]region.Region // by name, with the time in which the role has it
	Includes   map[string]bool          // itself and all it includes
}

// CompiledGrant is a grant with what its lists and conditions come to.
type CompiledGrant struct {
	*estate.Grant
	Number int
	List   int           // of its list of resources
	Region region.Region // of its condition, starts and ends
}

// CompiledBlock is likewise a block.
type CompiledBlock struct {
	*estate.Block
	Number int
	List   int
	Region region.Region
}
