package store

import (
	"context"
	"database/sql"
	"sync"

	"gorm.io/gorm"
)

// prepared is the connection that writes. It keeps the statements prepared that transactions run again and again.
// GORM's own cache prepares within a transaction, and database/sql cannot use such a statement in another one, so each
// transaction would prepare all of its statements.
type prepared struct {
	*sql.DB
	mu     sync.Mutex // guards what follows
	ready  map[string]*sql.Stmt
	wanted map[string]int // number of uses while it was not prepared
}

// preparedMost limits the statements that are kept: each number of rows has a statement of its own.
const preparedMost = 400

// prepare makes a database keep its statements prepared. It must have one connection only.
func prepare(db *gorm.DB) error {
	raw, err := db.DB()
	if err != nil {
		return err
	}
	p := &prepared{DB: raw, ready: map[string]*sql.Stmt{}, wanted: map[string]int{}}
	db.ConnPool, db.Statement.ConnPool = p, p
	return nil
}

// GetDBConn returns the database below.
func (p *prepared) GetDBConn() (*sql.DB, error) { return p.DB, nil }

// BeginTx prepares what earlier transactions ran twice or more, and begins one. It must not hold mu while it waits for
// the connection: the transaction that has it needs mu.
func (p *prepared) BeginTx(ctx context.Context, o *sql.TxOptions) (gorm.ConnPool, error) {
	for _, query := range p.takeWanted() {
		s, err := p.DB.PrepareContext(ctx, query)
		if err != nil {
			continue // the transaction gets the error
		}
		if !p.keep(query, s) {
			_ = s.Close() // another transaction was faster
		}
	}
	tx, err := p.DB.BeginTx(ctx, o)
	if err != nil {
		return nil, err
	}
	return &preparedTx{tx, p}, nil
}

// takeWanted removes and returns the statements to prepare.
func (p *prepared) takeWanted() (queries []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for query, times := range p.wanted {
		if times > 1 && len(p.ready)+len(queries) < preparedMost {
			queries = append(queries, query)
			delete(p.wanted, query)
		}
	}
	if len(p.wanted) > preparedMost {
		clear(p.wanted)
	}
	return queries
}

func (p *prepared) keep(query string, s *sql.Stmt) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.ready[query] != nil {
		return false
	}
	p.ready[query] = s
	return true
}

// preparedTx is a transaction that uses prepared statements.
type preparedTx struct {
	*sql.Tx
	of *prepared
}

func (t *preparedTx) statement(ctx context.Context, query string) *sql.Stmt {
	t.of.mu.Lock()
	defer t.of.mu.Unlock()
	if s := t.of.ready[query]; s != nil {
		return t.StmtContext(ctx, s)
	}
	t.of.wanted[query]++
	return nil
}

// ExecContext runs a statement.
func (t *preparedTx) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if s := t.statement(ctx, query); s != nil {
		return s.ExecContext(ctx, args...)
	}
	return t.Tx.ExecContext(ctx, query, args...)
}

// QueryContext runs a statement that returns rows.
func (t *preparedTx) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if s := t.statement(ctx, query); s != nil {
		return s.QueryContext(ctx, args...)
	}
	return t.Tx.QueryContext(ctx, query, args...)
}

// QueryRowContext runs a statement that returns one row.
func (t *preparedTx) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	if s := t.statement(ctx, query); s != nil {
		return s.QueryRowContext(ctx, args...)
	}
	return t.Tx.QueryRowContext(ctx, query, args...)
}
