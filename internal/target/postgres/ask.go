package postgres

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"hiddengate/internal/target"
)

// denied is the code of an error that says that a right is missing (insufficient_privilege).
const denied = "42501"

// Ask puts questions as their accounts, in a transaction that is rolled back: what reads and changes rows of plain
// tables is tried, in that PostgreSQL plans it, which it does for nobody who may not; of all else its own functions are
// asked.
func (s *system) Ask(ctx context.Context, was target.Snapshot, questions iter.Seq[target.Question],
	tell func(target.Answer) bool) error {
	snap := was.(*snapshot)
	var same []target.Question // of one account
	for q := range questions {
		if len(same) > 0 && same[0].Holder != q.Holder {
			goOn, err := s.askAs(ctx, snap, same, tell)
			if err != nil || !goOn {
				return err
			}
			same = same[:0]
		}
		same = append(same, q)
	}
	if len(same) == 0 {
		return nil
	}
	_, err := s.askAs(ctx, snap, same, tell)
	return err
}

// asking is what is asked as one account.
type asking struct {
	*snapshot
	account string
	ways    map[string][]string
}

func (s *system) askAs(ctx context.Context, snap *snapshot, questions []target.Question,
	tell func(target.Answer) bool) (goOn bool, err error) {
	tx, err := s.conn.Begin(ctx)
	if err != nil {
		return false, err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	one := asking{snapshot: snap, account: questions[0].Holder.Account}
	one.ways = snap.ways(one.account)
	answers := make([]target.Answer, len(questions))
	var tried, asked []int
	for i, q := range questions {
		answers[i].Question = q
		if text := one.try(q); text == "" {
			asked = append(asked, i)
		} else {
			tried = append(tried, i)
		}
	}
	if err := one.functionsOf(ctx, tx, asked, answers); err != nil {
		return false, err
	}
	if err := one.tries(ctx, tx, tried, answers); err != nil {
		return false, err
	}
	for _, a := range answers {
		why := ""
		if a.Class != nil && a.Allowed {
			why = one.showing(one.account, one.ways, nativeOf(a.Operation, snap.state.Places[a.Class.Table].Type), a.Class)
			a.Allowed = why != ""
		}
		if !a.Agrees() {
			if a.Why = why; why == "" {
				a.Why = one.why(a)
			}
		}
		if !tell(a) {
			return false, nil
		}
	}
	return true, nil
}

// at is the object that a question is about.
func (a *asking) at(q *target.Question) int {
	if q.Class != nil {
		return q.Class.Table
	}
	return q.Place
}

// nativeOf gives the native that carries an operation on a type.
func nativeOf(operation, typ string) int {
	return slices.IndexFunc(natives, func(n target.Native) bool {
		return slices.Contains(n.Types, typ) && slices.Contains(n.Gives, operation)
	})
}

// try gives the statement by which a question is tried; "" where the system's functions are asked. What should be
// allowed is tried on whole rows, what should not on as little as there is.
func (a *asking) try(q target.Question) string {
	o := &a.objects[a.at(&q)]
	if !o.plain || q.Class != nil {
		return ""
	}
	name := ident(o.schema, o.name)
	switch nativeOf(q.Operation, a.state.Places[a.at(&q)].Type) {
	case selecting:
		if q.Expected {
			return "EXPLAIN SELECT t FROM " + name + " AS t"
		}
		return "EXPLAIN SELECT 1 FROM " + name
	case inserting:
		return "EXPLAIN INSERT INTO " + name + " DEFAULT VALUES"
	case updating:
		if o.column == "" {
			return ""
		}
		return "EXPLAIN UPDATE " + name + " SET " + ident(o.column) + " = NULL WHERE false"
	case deleting:
		return "EXPLAIN DELETE FROM " + name + " WHERE false"
	}
	return ""
}

// functions asks PostgreSQL's own functions about one native on many objects.
func (a *asking) functions(ctx context.Context, tx pgx.Tx, native int, which []int, answers []target.Answer) error {
	if len(which) == 0 {
		return nil
	}
	var oids, schemas []uint32
	var names []string
	for _, i := range which {
		o := &a.objects[a.at(&answers[i].Question)]
		oids, names = append(oids, o.oid), append(names, o.name)
		if n, ok := a.schemas[o.schema]; ok && o.schema != "" {
			schemas = append(schemas, a.objects[n].oid)
		} else {
			schemas = append(schemas, 0)
		}
	}
	call := map[kind]string{
		database: "pg_catalog.has_database_privilege(r.oid, o.oid, $2)",
		schema: "pg_catalog.has_schema_privilege(r.oid, o.oid, $2) AND " +
			"pg_catalog.has_schema_privilege(r.oid, o.oid, 'USAGE')",
		relation: "pg_catalog.has_table_privilege(r.oid, o.oid, $2) AND " +
			"pg_catalog.has_schema_privilege(r.oid, o.schema, 'USAGE')",
		routine: "pg_catalog.has_function_privilege(r.oid, o.oid, $2) AND " +
			"pg_catalog.has_schema_privilege(r.oid, o.schema, 'USAGE')",
		parameter: "pg_catalog.has_parameter_privilege(r.oid, o.name, $2)",
	}[a.objects[a.at(&answers[which[0]].Question)].kind]
	if native == connecting {
		call += " AND r.rolcanlogin"
	}
	if owning&(1<<native) != 0 {
		call = a.ownedText(a.objects[a.at(&answers[which[0]].Question)].kind) +
			" AND pg_catalog.has_schema_privilege(r.oid, o.schema, 'USAGE') AND $2 <> ''"
	}
	if native == makingRoles {
		call = `(r.rolsuper OR EXISTS (SELECT FROM pg_catalog.pg_roles m WHERE m.rolcreaterole AND
			` + a.actingAs("m.oid") + `)) AND $2 <> ''`
		if a.version >= grantorsSince { // and it says which roles one may give
			call += ` AND NOT EXISTS (SELECT FROM pg_catalog.pg_roles g WHERE pg_catalog.starts_with(
				pg_catalog.shobj_description(g.oid, 'pg_authid'), ` + literal(grantMark(a.snapshot.system)) + `)
				AND NOT pg_catalog.pg_has_role(r.oid, g.oid, 'MEMBER WITH ADMIN OPTION'))`
		}
	}
	if memberOf[native] != "" {
		call = a.actingAs("$2")
	}
	rows, err := tx.Query(ctx, "SELECT "+call+`
		FROM ROWS FROM (pg_catalog.unnest($3::oid[]), pg_catalog.unnest($4::oid[]), pg_catalog.unnest($5::text[]))
			WITH ORDINALITY AS o(oid, schema, name, n), pg_catalog.pg_roles r
		WHERE r.rolname = $1 ORDER BY o.n`,
		a.account, natives[native].Name, oids, schemas, names)
	if err != nil {
		return err
	}
	defer rows.Close()
	n := 0
	for ; rows.Next(); n++ {
		if err := rows.Scan(&answers[which[n]].Allowed); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if n != len(which) {
		return fmt.Errorf("the account %s is gone: %w", a.account, target.ErrChanged)
	}
	return nil
}

// atOnce is how many tries are on their way at once.
const atOnce = 200

// tries tries as the account. Where hgate's own account may not act as it, the functions are asked.
func (a *asking) tries(ctx context.Context, tx pgx.Tx, which []int, answers []target.Answer) error {
	if len(which) == 0 {
		return nil
	}
	if _, err := tx.Exec(ctx, "SAVEPOINT hgate"); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "SET LOCAL ROLE "+ident(a.account)); err != nil {
		var fault *pgconn.PgError
		if !errors.As(err, &fault) {
			return err
		}
		if _, err := tx.Exec(ctx, "ROLLBACK TO hgate"); err != nil {
			return err
		}
		return a.functionsOf(ctx, tx, which, answers)
	}
	if _, err := tx.Exec(ctx, "SAVEPOINT tried"); err != nil {
		return err
	}
	conn := tx.Conn().PgConn()
	var unclear []int // what could not be tried for another reason, such as a view that was never filled
	for part := range slices.Chunk(which, atOnce) {
		pipe := conn.StartPipeline(ctx)
		for _, i := range part {
			text := a.try(answers[i].Question)
			for _, one := range []string{text, "ROLLBACK TO tried"} {
				pipe.SendQueryParams(one, nil, nil, nil, nil)
				if err := pipe.Sync(); err != nil {
					return err
				}
			}
		}
		for _, i := range part {
			for k := range 2 {
				failed, err := outcome(pipe)
				if err != nil {
					pipe.Close()
					return err
				}
				if k == 0 {
					answers[i].Allowed = failed == nil
					if answers[i].Tried = failed == nil || failed.Code == denied; !answers[i].Tried {
						unclear = append(unclear, i)
					}
				} else if failed != nil {
					pipe.Close()
					return failed
				}
			}
		}
		if err := pipe.Close(); err != nil {
			return err
		}
	}
	return a.functionsOf(ctx, tx, unclear, answers)
}

// functionsOf asks the functions about questions of any natives.
func (a *asking) functionsOf(ctx context.Context, tx pgx.Tx, which []int, answers []target.Answer) error {
	by := map[int][]int{}
	for _, i := range which {
		native := nativeOf(answers[i].Operation, a.state.Places[a.at(&answers[i].Question)].Type)
		by[native] = append(by[native], i)
	}
	for native := range natives {
		if err := a.functions(ctx, tx, native, by[native], answers); err != nil {
			return err
		}
	}
	return nil
}

// outcome reads what became of one statement, up to its synchronization.
func outcome(pipe *pgconn.Pipeline) (failed *pgconn.PgError, err error) {
	for {
		result, err := pipe.GetResults()
		if err != nil {
			if errors.As(err, &failed) {
				continue
			}
			return nil, err
		}
		switch r := result.(type) {
		case *pgconn.ResultReader:
			if _, err := r.Close(); err != nil && !errors.As(err, &failed) {
				return nil, err
			}
		case *pgconn.PipelineSync:
			return failed, nil
		case nil:
			return nil, errors.New("the server ended before it answered")
		}
	}
}

// why says what in the database makes an answer what it is.
func (a *asking) why(answer target.Answer) string {
	native := nativeOf(answer.Operation, a.state.Places[a.at(&answer.Question)].Type)
	cause := a.cause(a.account, a.ways, native, a.at(&answer.Question))
	switch {
	case answer.Allowed && cause == "":
		return "nothing that hgate knows of gives it"
	case answer.Allowed:
		return cause
	}
	switch o := &a.objects[a.at(&answer.Question)]; {
	case native == connecting && !a.roles[a.account].login:
		return "the account cannot sign in"
	case answer.Class != nil && cause != "":
		return "no row policy lets it through"
	case cause == "":
		return "the account lacks " + natives[native].Name
	case o.schema != "":
		return "the account lacks USAGE of the schema " + o.schema
	}
	return "the account has " + natives[native].Name + ", and is refused all the same"
}
