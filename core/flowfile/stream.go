package flowfile

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"sync"

	"bivium/core/limits"
	"bivium/core/parallel"
	"bivium/core/verdict"
)

// stroke is how many bytes of a file are worked on at a stroke, at least.
const stroke = 256 << 10

// part is whole rows of a file, and what becomes of them.
type part struct {
	text   []byte
	before int // how many lines come before it
	out    bytes.Buffer
	err    error
	done   chan struct{}
}

// spent are those that were written, to be filled again.
var spent = sync.Pool{New: func() any { return &part{} }}

// Judge writes a flow file with what tell says of each flow beside it, in the order of the
// file; tell may be called from many goroutines at once. Rows are worked on by all processors,
// and of the file no more is held than they work on, a few megabytes. A row that cannot be read
// ends it with an *Error; nothing is written then of a file of up to a hundred thousand rows
// or so (limits.FlowAnswerBytes), and of longer ones the rows before it may be. segments are as for Read.
func Judge(in io.Reader, out io.Writer, segments []string, tell func(f *verdict.Flow) verdict.Verdict) error {
	return judge(in, out, segments, tell, stroke)
}

func judge(in io.Reader, out io.Writer, segments []string, tell func(f *verdict.Flow) verdict.Verdict, stroke int) error {
	rows := &splitter{in: bufio.NewReaderSize(in, 64<<10)}
	c, err := rows.header(segments)
	if err != nil {
		return err
	}
	first := &whole{out: out}
	header := csv.NewWriter(first)
	if err = header.Write(slices.Concat(c.header, Columns)); err != nil {
		return err
	}
	header.Flush()

	ctx, cancel := context.WithCancel(context.Background())
	var workers parallel.Group
	defer workers.Wait()
	defer cancel()
	work, ordered := make(chan *part), make(chan *part, 2*runtime.GOMAXPROCS(0))
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			defer cancel() // nothing is dealt any more if it panics
			for p := range work {
				c.judge(p, tell)
			}
		})
	}
	var failed error
	workers.Go(func() {
		defer close(ordered)
		defer close(work)
		failed = rows.deal(ctx, stroke, work, ordered)
	})
	for p := range ordered {
		<-p.done
		if p.err != nil {
			return p.err
		}
		if _, err := first.Write(p.out.Bytes()); err != nil {
			return err
		}
		spent.Put(p)
	}
	if failed != nil {
		return failed
	}
	return first.flush()
}

// whole writes nothing until it has much, or all there is, so that whoever gives a file with
// an error gets the error, and no half of an answer.
type whole struct {
	out   io.Writer
	held  bytes.Buffer
	opens bool // it has begun to write
}

// Write writes or holds text.
func (w *whole) Write(text []byte) (int, error) {
	if w.opens {
		return w.out.Write(text)
	}
	w.held.Write(text)
	if w.held.Len() < limits.FlowAnswerBytes {
		return len(text), nil
	}
	return len(text), w.flush()
}

// flush writes what is held.
func (w *whole) flush() error {
	w.opens = true
	_, err := w.held.WriteTo(w.out)
	return err
}

// judge fills the answer to the rows of a part.
func (c *columns) judge(p *part, tell func(f *verdict.Flow) verdict.Verdict) {
	defer close(p.done)
	p.out.Reset()
	p.out.Grow(2 * len(p.text))
	reader := csv.NewReader(bytes.NewReader(p.text))
	reader.ReuseRecord = true
	reader.FieldsPerRecord = len(c.header)
	writer := csv.NewWriter(&p.out)
	var row []string
	p.err = c.rows(reader, p.before, func(given []string, f *verdict.Flow) error {
		v := tell(f)
		row = append(append(row[:0], given...), fields(&v)...)
		return writer.Write(row)
	})
	writer.Flush()
}

// splitter cuts a file where rows end. A line ends a row if as many quotes open before it as
// close, which holds in every file up to its first error.
type splitter struct {
	in   *bufio.Reader
	line int // how many lines were cut off
}

// next appends whole rows to a text, at least so many bytes where there are so many. It
// returns the text, and how many lines of the file come before the rows; io.EOF comes with
// the last.
func (s *splitter) next(text []byte, least int) (_ []byte, before int, err error) {
	quotes := 0
	for whole := false; !whole; {
		var line []byte
		line, err = s.in.ReadSlice('\n')
		text = append(text, line...)
		quotes += bytes.Count(line, []byte{'"'})
		switch {
		case len(text) > least+limits.FlowRowBytes:
			return nil, 0, &Error{Line: s.line + 1, Err: fmt.Errorf("a row from here on has more than %d bytes; is a quote left open?", limits.FlowRowBytes)}
		case errors.Is(err, bufio.ErrBufferFull): // the line goes on
		case err != nil:
			whole = true
		default:
			whole = quotes%2 == 0 && len(text) >= least
		}
	}
	before = s.line
	s.line += bytes.Count(text, []byte{'\n'})
	return text, before, err
}

// header returns the first row, which names the columns.
func (s *splitter) header(segments []string) (*columns, error) {
	for {
		text, _, err := s.next(nil, 1)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		if err == nil && len(bytes.TrimRight(text, "\r\n")) == 0 {
			continue
		}
		return readHeader(csv.NewReader(bytes.NewReader(text)), segments)
	}
}

// deal gives parts to those who work, and to whoever waits for them in order.
func (s *splitter) deal(ctx context.Context, stroke int, work, ordered chan<- *part) (err error) {
	for {
		p := spent.Get().(*part) //nolint:forcetypeassert // there are no others
		p.text, p.before, err = s.next(p.text[:0], stroke)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		p.done = make(chan struct{})
		for _, to := range []chan<- *part{work, ordered} { // what is in order is worked on
			select {
			case to <- p:
			case <-ctx.Done():
				return nil
			}
		}
		if err != nil {
			return nil
		}
	}
}
