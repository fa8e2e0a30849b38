package logbook

// Transports are what a connection can be, by number, in words.
var Transports = [NumTransports]string{"websocket", "events", "stream", "polling", "asking", "tcp", "udp"}

// NumTransports is how many there are.
const NumTransports = 7

// RouteCounts are how clients came to the server within one second, and what that took.
type RouteCounts struct {
	// On is how many connections were open at the end of the second over each transport;
	// summed up, how many seconds clients spent on it.
	On        [NumTransports]int64
	Down      int64 // steps down to the next route
	Up        int64 // steps up to a better one
	UpFailed  int64 // tries of a better one that came to nothing
	NoneLeft  int64 // clients whose last route failed
	Dials     int64 // connections begun
	Asked     int64 // HTTP requests, those of transports too
	BytesUp   int64 // sent, heads included
	TriedIn   int64 // microseconds spent on tries that came to nothing
	TriedCost int64 // bytes received in them
	// deliveries that were lost, came twice or in the wrong order while their recipient
	// changed its route
	LostAt, DoubledAt, ReorderedAt int64
}

// ShareOn is what part of the clients' connected time was spent on a transport, from 0 to
// 1; 0 if nobody was connected.
func (c *RouteCounts) ShareOn(transport int) float64 {
	all := int64(0)
	for _, n := range c.On {
		all += n
	}
	return float64(c.On[transport]) / float64(max(1, all))
}

// perDelivery divides by the deliveries that came.
func perDelivery(w *Window, n int64) float64 {
	came := w.Total.Delivered + w.Total.Late + w.Total.CaughtUp
	return float64(n) / float64(max(1, came))
}

// routeFigures are the figures of routes.
func routeFigures(add func(name string, unit Unit, doc string, of func(*Window) float64) *Figure) {
	connected := func(w *Window) bool { return w.Counts.Started > 0 }
	count := func(name, doc string, of func(*RouteCounts) int64) {
		add("routes."+name, Count, doc,
			func(w *Window) float64 { return float64(of(&w.Counts.Routes)) }).some = connected
	}
	for i, name := range Transports {
		add("routes.on."+name, Ratio, "percent of the clients' connected time spent on "+name, func(w *Window) float64 {
			return 100 * w.Counts.Routes.ShareOn(i)
		}).some = connected
	}
	count("steps_down", "steps down to the next route", func(c *RouteCounts) int64 { return c.Down })
	count("steps_up", "steps up to a better route", func(c *RouteCounts) int64 { return c.Up })
	count("steps_up_failed", "tries of a better route that came to nothing",
		func(c *RouteCounts) int64 { return c.UpFailed })
	count("none_left", "clients whose last route failed", func(c *RouteCounts) int64 { return c.NoneLeft })
	count("connections", "connections begun", func(c *RouteCounts) int64 { return c.Dials })
	count("requests", "HTTP requests, those of transports too", func(c *RouteCounts) int64 { return c.Asked })
	for _, at := range []struct {
		name, doc string
		of        func(*RouteCounts) int64
	}{
		{"lost_at_switch", "deliveries lost while their recipient changed its route",
			func(c *RouteCounts) int64 { return c.LostAt }},
		{"doubled_at_switch", "second copies that came while their recipient changed its route",
			func(c *RouteCounts) int64 { return c.DoubledAt }},
		{"reordered_at_switch", "deliveries out of order while their recipient changed its route",
			func(c *RouteCounts) int64 { return c.ReorderedAt }},
	} {
		add("routes."+at.name, Count, at.doc, func(w *Window) float64 { return float64(at.of(&w.Counts.Routes)) }).
			some = func(w *Window) bool { return w.Counts.Routes.Up+w.Counts.Routes.Down > 0 && w.Total.Owed > 0 }
	}
	delivered := func(w *Window) bool { return w.Total.Delivered+w.Total.Late+w.Total.CaughtUp > 0 }
	add("routes.requests_per_delivery", Ratio, "HTTP requests for each delivery that came", func(w *Window) float64 {
		return perDelivery(w, w.Counts.Routes.Asked)
	}).some = delivered
	add("routes.bytes_per_delivery", Ratio, "bytes, both ways, heads included, for each delivery that came",
		func(w *Window) float64 { return perDelivery(w, w.Counts.Routes.BytesUp+w.Counts.Bytes) }).some = delivered
}
