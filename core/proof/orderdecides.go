package proof

func init() {
	register(10, Kind{
		Name: "order-decides", Severity: Note,
		Summary: "two entries overlap under different conditions and answer differently: their order settles it, as written",
		Before:  "redirect german on /:page when cookie.lang de to /de/{page}   as temporary\nredirect old    on /fares                     to /fares/      as permanent",
		After:   "redirect german on /:page when cookie.lang de unless path /fares to /de/{page}   as temporary\nredirect old    on /fares                                        to /fares/      as permanent",
		Quiet:   true,
		find:    func(c *checker) { findCrossings(c, false) },
	})
}
