package store

import (
	"fmt"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(filepath.Join(t.TempDir(), "deep", "lantern.db"))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

// TestBatch: all of it or nothing; what is added stays as it was first, what is put takes the place.
func TestBatch(t *testing.T) {
	s := open(t)
	write := func(f func(b *Batch)) error {
		b := &Batch{}
		f(b)
		return s.Write(b)
	}
	require.NoError(t, write(func(b *Batch) {
		b.Put(&Drive{Key: "a", Doc: []byte("1")})
		b.Put(&Drive{Key: "a", Doc: []byte("2")})
		b.Add(&Reading{Drive: "a", At: 5, Packed: []byte("first")})
		b.Add(&Reading{Drive: "a", At: 5, Packed: []byte("second")})
		b.Events = append(b.Events, &Event{Kind: "drive", Says: "came"})
		require.Zero(t, b.Events[0].ID)
	}))
	d, err := One[Drive](s, "key = ?", "a")
	require.NoError(t, err)
	require.Equal(t, "2", string(d.Doc))
	r, err := All[Reading](s, "at", "")
	require.NoError(t, err)
	require.Len(t, r, 1)
	require.Equal(t, "first", string(r[0].Packed))
	_, err = One[Drive](s, "key = ?", "b")
	require.ErrorIs(t, err, ErrNone)

	require.NoError(t, s.Limit(1))
	err = write(func(b *Batch) {
		b.Put(&Drive{Key: "a", Doc: []byte("3")})
		b.Add(&BadPage{Drive: "a", Bytes: make([]byte, 1<<20)})
	})
	require.ErrorIs(t, err, ErrFull)
	d, _ = One[Drive](s, "key = ?", "a")
	require.Equal(t, "2", string(d.Doc), "nothing of the batch was kept")
}

// TestFold: a block takes the place of what it holds, and is never written over.
func TestFold(t *testing.T) {
	s := open(t)
	b := &Batch{}
	for at := range int64(10) {
		b.Add(&Reading{Drive: "a", At: at, Packed: []byte{byte(at)}})
	}
	require.NoError(t, s.Write(b))
	old, err := s.Oldest("a", 6)
	require.NoError(t, err)
	require.Len(t, old, 6)
	require.Error(
		t,
		s.Fold(Block{Drive: "a", First: 0, Last: 5, Count: 6, Data: []byte("x")}, 7, nil, DriveRecord{Drive: "a"}),
		"not as many as were meant",
	)
	require.NoError(t, s.Fold(Block{Drive: "a", First: 0, Last: 5, Count: 6, Data: []byte("x")}, 6, nil,
		DriveRecord{Drive: "a"}))
	require.Error(
		t,
		s.Fold(Block{Drive: "a", First: 0, Last: 1, Count: 2, Data: []byte("y")}, 0, nil, DriveRecord{Drive: "a"}),
		"a block is there",
	)
	blocks, loose, err := s.Of("a", time.UnixMilli(3))
	require.NoError(t, err)
	require.Len(t, blocks, 1)
	require.Equal(t, "x", string(blocks[0].Data))
	require.Len(t, loose, 4)
	require.NoError(t, s.Fold(Block{Drive: "a", First: 0, Last: 9, Count: 10, Data: []byte("z")}, 4, blocks,
		DriveRecord{Drive: "a"}))
	blocks, loose, _ = s.Of("a", time.UnixMilli(0))
	require.Len(t, blocks, 1)
	require.Empty(t, loose)
	size, err := s.Size()
	require.NoError(t, err)
	require.Positive(t, size)
}

// TestOnce: a report is taken once, and what came with it the second time is not written; a reading is found where it
// lies, loose or folded.
func TestOnce(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "x.db"))
	require.NoError(t, err)
	defer s.Close()
	b := &Batch{Once: &ReportID{ID: "r1", Host: "h"}}
	b.Add(&Reading{Drive: "d", At: 1000, Packed: []byte("a")})
	require.NoError(t, s.Write(b))
	b = &Batch{Once: &ReportID{ID: "r1", Host: "h"}}
	b.Add(&Reading{Drive: "d", At: 2000, Packed: []byte("b")})
	require.ErrorIs(t, s.Write(b), ErrTwice)
	all, err := All[Reading](s, "at", "")
	require.NoError(t, err)
	require.Len(t, all, 1)
	loose, _, err := s.Around("d", time.UnixMilli(1000))
	require.NoError(t, err)
	require.True(t, loose)
	require.NoError(t, s.Fold(Block{Drive: "d", First: 1000, Last: 1000, Count: 1, Data: []byte("x")}, 1, nil,
		DriveRecord{Drive: "a"}))
	loose, blocks, err := s.Around("d", time.UnixMilli(1000))
	require.NoError(t, err)
	require.False(t, loose)
	require.Len(t, blocks, 1)
	_, blocks, err = s.Around("d", time.UnixMilli(5000))
	require.NoError(t, err)
	require.Empty(t, blocks)
	for i := range 5 {
		require.NoError(
			t,
			s.Write(&Batch{Events: []*Event{{Kind: "drive", Subject: "d", Says: string(rune('a' + i))}}}),
		)
	}
	newest, err := Newest[Event](s, 2, "subject = ?", "d")
	require.NoError(t, err)
	require.Equal(t, []string{"e", "d"}, []string{newest[0].Says, newest[1].Says})
}

// TestWritersTogether: many write at the same time, with statements of many sizes; each write is stored, and none waits
// for ever for another.
func TestWritersTogether(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "lantern.db"))
	require.NoError(t, err)
	defer s.Close()
	done := make(chan struct{})
	var writing sync.WaitGroup
	for w := range 8 {
		writing.Go(func() {
			for i := range 60 {
				b := &Batch{Events: []*Event{{Kind: "drive", Subject: fmt.Sprint(w), Says: fmt.Sprint(i)}}}
				for j := range 1 + i%20 {
					b.Add(&Reading{Drive: fmt.Sprint(w), At: int64(1000*i + j), Packed: []byte{1}})
				}
				if err := s.Write(b); err != nil {
					t.Error(err)
				}
			}
		})
	}
	go func() { writing.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(2 * time.Minute):
		buf := make([]byte, 1<<20)
		t.Fatalf("writers wait for each other:\n%s", buf[:runtime.Stack(buf, true)])
	}
	rows, err := All[Reading](s, "drive", "")
	require.NoError(t, err)
	require.Len(t, rows, 8*3*(20*21/2))
	events, err := All[Event](s, "id", "")
	require.NoError(t, err)
	require.Len(t, events, 8*60)
}
