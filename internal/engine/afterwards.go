package engine

import "context"

// Freezer is a source that can make a database refuse changes.
type Freezer interface {
	// Freezable fails, with advice, where the server has no means to do it.
	Freezable(ctx context.Context) error
	// Freeze makes a database refuse changes.
	Freeze(ctx context.Context, database string) error
}

// RoleMapper is a source that can put other roles in the place of those that an object names. Roles are named as people
// write them.
type RoleMapper interface {
	// MapRoles gives an object and its SQL with other roles. It fails where the SQL names a role in a way that it does not
	// know: nothing is given to the wrong one. The SQL may be empty, where just the object is asked for.
	MapRoles(o Object, sql string, roles map[string]string) (Object, string, error)
}

// Dropper is a source that can remove a database.
type Dropper interface {
	// Drop removes a database, for good.
	Drop(ctx context.Context, database string) error
}
