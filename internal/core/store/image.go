package store

import (
	"errors"
	"hash/crc32"
	"strconv"
	"sync/atomic"
	"time"

	"gerastic/internal/core/compose"
	"gerastic/internal/core/tags"
)

// Image is an entry as a tier below keeps it: nothing in it refers to the memory's words.
type Image struct {
	Key      string
	Variant  Variant
	Known    tags.Stamp // up to where in the ledger no mark matters to it
	Softened bool
	Cost     time.Duration
	Used     uint32 // the last use, see moment
	Idle     uint32 // seconds that it stays without being asked for; 0: for ever
	Uses     float64
	Epoch    time.Time // from which Meta counts its times
	Meta     []byte    // all that is known of it
	Body     []byte
	Length   int64   // of its body, also where that was not read
	Far      FarBody // where it is then; nil: nobody wants it

	Left Moment       // when memory gave it up
	Gone *atomic.Bool // something newer has come since then
}

// Variant tells an image from others under its key. Two of one family depend on the same fields of
// a request, so that one of them at most answers it; of two families, either may.
type Variant struct {
	Family uint16
	Own    uint32 // of what it says of these fields
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// variantOf is an entry's variant.
func variantOf(e *Entry) Variant {
	family, own := uint32(0), uint32(0)
	add := func(sum uint32, text string) uint32 {
		return crc32.Update(crc32.Update(sum, castagnoli, []byte(text)), castagnoli, []byte{0})
	}
	byCoding := false
	for _, v := range e.Vary {
		family = add(family, v.Name)
		own = add(add(add(own, v.Name), v.Value), strconv.FormatBool(v.Present))
		byCoding = byCoding || v.Name == "Accept-Encoding"
	}
	for _, coding := range e.Encodings {
		if !byCoding {
			family, own = add(family, coding), add(own, coding)
		}
	}
	return Variant{Family: uint16(family ^ family>>16), Own: own}
}

// imageOf makes the image of an entry that memory gives up.
func imageOf(e *Entry, epoch time.Time) Image {
	s := e.state()
	w := writer{}
	w.number(uint64(e.Fill.Stamp))
	w.time(e.Fill.Began, epoch)
	w.bits(e.Failure)
	w.plain(e.made)
	w.plain(e.Subject.Route)
	w.number(uint64(len(e.Subject.Tags)))
	for _, tag := range e.Subject.Tags {
		w.plain(tag)
	}
	w.write(e, epoch)
	i := Image{
		Key: e.Key, Variant: variantOf(e), Known: s.knownTo(e.Fill.Stamp), Softened: s.is(softened), Cost: e.Cost(), Used: s.used.Load(),
		Epoch: epoch, Meta: w.bytes, Body: e.Body,
	}
	if e.Idle > 0 {
		i.Idle = uint32((e.Idle + time.Second - 1) / time.Second)
	}
	return i
}

// errImage says that what a tier below returned is no image.
var errImage = errors.New("it is no image of an entry")

// entry makes the entry of an image. It shares the image's memory.
func (i *Image) entry() (e *Entry, err error) {
	defer i.broken(&err)
	r := reader{bytes: i.Meta}
	var fill Fill
	var s tags.Subject
	i.front(&r, &fill, &s)
	failure := false
	r.bits(&failure)
	made := r.text()
	r.terms(&s)
	e = r.read(i.Epoch)
	if i.Body == nil && i.Far == nil {
		e.Skeleton = nil // nobody composes it
	}
	e.Fill, e.Failure, e.made = fill, failure, made
	e.Subject.Stamp, e.Subject.Route, e.Subject.Tags = fill.Stamp, s.Route, s.Tags
	e.Body = i.Body[:len(i.Body):len(i.Body)]
	if i.Far != nil {
		e.Far, e.far = i.Far, i.Length
	} else if e.Skeleton != nil {
		if e.Skeleton, err = compose.Parse(e.Body); err != nil {
			return nil, errImage
		}
	}
	e.own.judged.Store(uint64(i.Known))
	e.own.used.Store(i.Used)
	e.own.costs(i.Cost)
	if i.Softened {
		e.own.note(softened)
	}
	e.Prepare()
	return e, nil
}

// Subject is what a purge may name of an image.
func (i *Image) Subject() (s tags.Subject, err error) {
	e, err := (&Image{Meta: i.Meta, Epoch: i.Epoch}).entry()
	if err != nil {
		return s, err
	}
	s = e.Subject
	s.Name = e.Name()
	return s, nil
}

// Since is the image with its times counted from another moment.
func (i Image) Since(epoch time.Time) (Image, error) {
	if i.Epoch == epoch {
		return i, nil
	}
	e, err := i.entry()
	if err != nil {
		return i, err
	}
	anew := imageOf(e, epoch)
	anew.Uses, anew.Length = i.Uses, i.Length
	return anew, nil
}

// URL is where the entry of an image was asked for.
func (i *Image) URL() (string, error) {
	e, err := (&Image{Meta: i.Meta, Epoch: i.Epoch}).entry()
	if err != nil {
		return "", err
	}
	return e.URL(), nil
}

func (i *Image) front(r *reader, fill *Fill, s *tags.Subject) {
	fill.Stamp, fill.Began = tags.Stamp(r.number()), r.time(i.Epoch)
	s.Stamp = fill.Stamp
}

// terms reads a route and tags that were written in front.
func (r *reader) terms(s *tags.Subject) {
	s.Route = r.text()
	if n := r.number(); n > 0 {
		s.Tags = make([]string, n)
		for i := range s.Tags {
			s.Tags[i] = r.text()
		}
	}
}

// broken turns what goes wrong in reading into an error: a sum may be right by chance.
func (i *Image) broken(err *error) {
	if recover() != nil {
		*err = errImage
	}
}
