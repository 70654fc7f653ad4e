package api

import (
	"bytes"
	"io"
	"net"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"ferry/internal/accounts"
	"ferry/internal/core/block"
	"ferry/internal/core/exchange"
	"ferry/internal/core/judge"
	"ferry/internal/core/problem"
	"ferry/internal/core/protocol"
	"ferry/internal/core/serial"
	"ferry/internal/core/site"
	"ferry/internal/recording"
)

// recordingsPath takes bodies of any size, which are kept as they come.
const recordingsPath = "/api/recordings"

// TakenView is a recording that was taken.
type TakenView struct {
	ID string `json:"id"`
}

// patient reads from a connection for as long as something comes.
type patient struct {
	from io.Reader
	conn net.Conn
}

// patience is for how long nothing may come of a recording.
const patience = 30 * time.Second

func (p patient) Read(b []byte) (int, error) {
	if err := p.conn.SetReadDeadline(time.Now().Add(patience)); err != nil {
		return 0, err
	}
	return p.from.Read(b)
}

// takeRecording lets a recording through to its handler, unread.
func (s *Server) takeRecording(c fiber.Ctx) error {
	if err := s.may(c, accounts.Edit); err != nil {
		return err
	}
	s.uploads <- struct{}{}
	defer func() { <-s.uploads }()
	c.Locals(bodyTaken{}, true)
	return c.Next()
}

func (s *Server) postRecording(c fiber.Ctx) error {
	name := strings.TrimSpace(path.Base(strings.ReplaceAll(c.Query("name"), `\`, "/")))
	if name == "" || name == "." || name == "/" || len(name) > 200 {
		return problem.New("no-name", "A recording needs a name.", "Give the name of its file.")
	}
	var format *serial.Format
	if text := c.Query("serial"); text != "" {
		f, err := serial.ParseFormat(text)
		if err != nil {
			return problem.New("format", "How the line was set is not understood: "+err.Error()+".",
				"Write it as 19200:8E1.").At(text)
		}
		format = &f
	}
	var from io.Reader = bytes.NewReader(c.Request().Body())
	if stream := c.Request().BodyStream(); stream != nil {
		from = patient{stream, c.RequestCtx().Conn()}
	}
	now, _ := s.Store.Site()
	k, err := s.Recordings.Take(name, from, format, time.Now(), now)
	if err != nil {
		return err
	}
	return c.JSON(TakenView{k.ID})
}

func (s *Server) getRecordings(c fiber.Ctx) error {
	list := []recording.Label{}
	for _, k := range s.Recordings.All() {
		list = append(list, k.Label)
	}
	return c.JSON(list)
}

// recorded finds the recording of a request, which is read if it is not yet.
func (s *Server) recorded(c fiber.Ctx) (*recording.Kept, *site.Site, error) {
	k, err := s.Recordings.Named(c.Params("id"))
	if err != nil {
		return nil, nil, err
	}
	now, _ := s.Store.Site()
	k.Begin(now)
	return k, now, nil
}

func (s *Server) getRecording(c fiber.Ctx) error {
	k, _, err := s.recorded(c)
	if err != nil {
		return err
	}
	return c.JSON(k.State())
}

func (s *Server) postRecordingAgain(c fiber.Ctx) error {
	k, now, err := s.recorded(c)
	if err != nil {
		return err
	}
	k.Again(now)
	return c.JSON(k.State())
}

func (s *Server) postRecordingRemove(c fiber.Ctx) error {
	if err := s.Recordings.Remove(c.Params("id")); err != nil {
		return err
	}
	return s.getRecordings(c)
}

// number reads a whole number of a query; otherwise it is what is given.
func number(c fiber.Ctx, key string, otherwise int) int {
	n, err := strconv.Atoi(c.Query(key))
	if err != nil {
		return otherwise
	}
	return n
}

func (s *Server) getRecordedList(c fiber.Ctx) error {
	k, _, err := s.recorded(c)
	if err != nil {
		return err
	}
	f := recording.Filter{Bad: c.Query("bad") != "", Asker: c.Query("asker"), At: c.Query("at"),
		Station: number(c, "station", -1), Function: number(c, "function", -1), Area: c.Query("area"),
		Unit: number(c, "unit", -1)}
	most := min(max(number(c, "most", mostListed), 1), mostListed)
	around := number(c, "around", -1)
	if packet := number(c, "packet", 0); packet > 0 {
		if around, err = k.RowOf(int64(packet)); err != nil {
			return err
		}
		if around < 0 {
			return problem.New("no-exchange", "No exchange has this packet.",
				"It belongs to the way: a connection that is asked for, refused or ended.").At(strconv.Itoa(packet))
		}
	}
	if at, err := strconv.ParseFloat(c.Query("time"), 64); err == nil {
		if around, err = k.RowAt(at); err != nil {
			return err
		}
	}
	list, err := k.List(f, number(c, "from", 0), most, around)
	if err != nil {
		return err
	}
	return c.JSON(list)
}

func (s *Server) getRecordedExchange(c fiber.Ctx) error {
	k, now, err := s.recorded(c)
	if err != nil {
		return err
	}
	row, err := strconv.Atoi(c.Params("row"))
	if err != nil {
		row = -1
	}
	detail, err := k.Detail(row, func(talk judge.TalkKey, speaks string, r block.Range,
		data []byte) []exchange.Labelled {
		device := judge.DeviceOf(now, talk)
		def, ok := protocol.Named(speaks)
		if device == nil || !ok {
			return nil
		}
		return labelled(def, device, &exchange.Exchange{Ranges: []block.Range{r}, Data: data})
	})
	if err != nil {
		return err
	}
	return c.JSON(detail)
}
