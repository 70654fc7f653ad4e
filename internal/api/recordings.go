package api

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net"
	"path"
	"slices"
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
	"ferry/internal/core/value"
	"ferry/internal/files"
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
	var from io.Reader
	if stream := c.Request().BodyStream(); stream != nil {
		from = patient{stream, c.RequestCtx().Conn()} // to ask for its body would read it whole
	} else {
		from = bytes.NewReader(c.Request().Body())
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

func filterOf(c fiber.Ctx) recording.Filter {
	return recording.Filter{Bad: c.Query("bad") != "", Asker: c.Query("asker"), At: c.Query("at"),
		Station: number(c, "station", -1), Function: number(c, "function", -1), Area: c.Query("area"),
		Unit: number(c, "offset", -1), Count: number(c, "count", -1)}
}

// getRecordedFile hands out a recording as it came, or its exchanges as a table.
func (s *Server) getRecordedFile(c fiber.Ctx) error {
	k, _, err := s.recorded(c)
	if err != nil {
		return err
	}
	defer s.inTurn()()
	var out bytes.Buffer
	switch c.Params("format") {
	case "capture":
		f, err := k.Open()
		if err != nil {
			return err
		}
		c.Attachment(k.Name)
		c.Set("Content-Type", "application/octet-stream")
		return c.SendStream(f) // which closes it
	case "csv":
		rows := [][]string{{"Time", "Asks", "Answers", "Question", "Outcome", "Latency ms", "Packet", "Answered in"}}
		err = k.Rungs(filterOf(c), func(r *recording.Rung) error {
			latency := ""
			if r.LatencyMs >= 0 {
				latency = strconv.FormatFloat(r.LatencyMs, 'f', 3, 64)
			}
			rows = append(rows, []string{time.UnixMicro(int64(r.AtMs * 1e3)).UTC().Format("2006-01-02T15:04:05.000000Z"),
				r.Asker, r.Answerer, r.Asks, r.Says, latency, strconv.FormatInt(r.AskedIn, 10),
				strconv.FormatInt(r.Answered, 10)})
			return tooMany(len(rows))
		})
		if err == nil {
			err = files.WriteTable(&out, rows)
		}
		c.Set("Content-Type", "text/csv; charset=utf-8")
	case "json":
		rungs := []recording.Rung{}
		err = k.Rungs(filterOf(c), func(r *recording.Rung) error {
			rungs = append(rungs, *r)
			return tooMany(len(rungs))
		})
		if err == nil {
			err = json.NewEncoder(&out).Encode(map[string]any{"recording": k.Name, "exchanges": rungs,
				"findings": k.State().Result.Findings})
		}
		c.Set("Content-Type", "application/json")
	default:
		return problem.New("format", "Exchanges are handed out as csv and json.", "").At(c.Params("format"))
	}
	if err != nil {
		return err
	}
	c.Attachment(k.Name + "." + c.Params("format"))
	return c.Send(out.Bytes())
}

// mostHanded bounds the exchanges of one table.
const mostHanded = 200_000

func tooMany(n int) error {
	if n > mostHanded {
		return problem.New("too-many", "These are more than 200 000 exchanges.", "Set conditions, so that fewer remain.")
	}
	return nil
}

// ownLately is what Ferry itself asked lately, of one link or line or of all.
func (s *Server) ownLately(c fiber.Ctx) (*site.Site, []exchange.Exchange) {
	now, _ := s.Store.Site()
	var links []string
	if link := c.Query("link"); link != "" {
		links = []string{link}
	} else if line := c.Query("line"); line != "" {
		links = append(linksOn(now, line), "") // of a line without links, nothing
	}
	return now, s.Engine.Hub.Exchanges(0, math.MaxInt, links...)
}

// runs reports whether a link runs now.
func (s *Server) runs() func(link string) bool {
	running := s.Engine.State().Running
	return func(link string) bool { return slices.Contains(running, link) }
}

// postOwn keeps what Ferry itself asked as a recording.
func (s *Server) postOwn(c fiber.Ctx) error {
	now, list := s.ownLately(c)
	if len(list) == 0 {
		return problem.New("nothing", "Ferry has asked nothing yet.", "Start a run under Timetable.")
	}
	var out bytes.Buffer
	if err := recording.WriteOwn(&out, now, list, s.runs()); err != nil {
		return err
	}
	at := time.Now()
	k, err := s.Recordings.Take(at.UTC().Format("own 2006-01-02 15.04.05")+".pcapng", &out, nil, at, now)
	if err != nil {
		return err
	}
	return c.JSON(TakenView{k.ID})
}

// getOwnFile hands out what Ferry itself asked lately.
func (s *Server) getOwnFile(c fiber.Ctx) error {
	now, list := s.ownLately(c)
	var out bytes.Buffer
	var err error
	switch c.Params("format") {
	case "pcapng":
		c.Set("Content-Type", "application/octet-stream")
		err = recording.WriteOwn(&out, now, list, s.runs())
	case "csv":
		c.Set("Content-Type", "text/csv; charset=utf-8")
		err = files.WriteTable(&out, recording.Table(now, list))
	case "json":
		c.Set("Content-Type", "application/json")
		err = json.NewEncoder(&out).Encode(map[string]any{"exchanges": list})
	default:
		return problem.New("format", "Traffic is handed out as pcapng, csv and json.", "").At(c.Params("format"))
	}
	if err != nil {
		return err
	}
	c.Attachment(now.Name + " traffic." + c.Params("format"))
	return c.Send(out.Bytes())
}

func (s *Server) getRecordedList(c fiber.Ctx) error {
	k, _, err := s.recorded(c)
	if err != nil {
		return err
	}
	f := filterOf(c)
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

// LearnRequest names what of a recording is taken into the site.
type LearnRequest struct {
	Talks []int `json:"talks"`
}

func (s *Server) getRecordedLearn(c fiber.Ctx) error {
	k, now, err := s.recorded(c)
	if err != nil {
		return err
	}
	defer s.inTurn()()
	list, err := k.Learn(now)
	if err != nil {
		return err
	}
	return c.JSON(list)
}

// postRecordedLearn makes devices of what was heard.
func (s *Server) postRecordedLearn(c fiber.Ctx) error {
	var r LearnRequest
	if err := bind(c, &r); err != nil {
		return err
	}
	k, now, err := s.recorded(c)
	if err != nil {
		return err
	}
	defer s.inTurn()()
	list, err := k.Learn(now)
	if err != nil {
		return err
	}
	var chosen []recording.HeardDevice
	for _, p := range list {
		if slices.Contains(r.Talks, p.Talk) {
			chosen = append(chosen, p)
		}
	}
	if len(chosen) == 0 {
		return problem.New("nothing", "Nothing was chosen.", "Choose some of what was heard.")
	}
	seq, err := s.change(c, fmt.Sprintf("made %d devices of what was heard", len(chosen)),
		func(now *site.Site) ([]site.Edit, error) { return recording.Edits(now, chosen), nil })
	if err != nil {
		return err
	}
	return c.JSON(EditAnswer{seq, "made devices of what was heard"})
}

func (s *Server) getRecordedHistory(c fiber.Ctx) error {
	k, _, err := s.recorded(c)
	if err != nil {
		return err
	}
	of := value.Type(cmp.Or(c.Query("type"), string(value.TypeUint16)))
	h, err := k.History(filterOf(c), of, value.Order(c.Query("order")))
	if err != nil {
		return err
	}
	return c.JSON(h)
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
