package main

// What administrators do every week: tidy addresses, new names, campaigns, and
// the mistakes that go with them.

var tidying = []situation{
	{
		name:  "one address for a folder's page",
		rules: "redirect index on /index.html to / as permanent\nredirect indexes on /:folder*/index.html to /{folder}/ as permanent",
		list: `
/index.html          => 301 / ends 200
/fares/index.html    => 301 /fares/ ends 200
/fares/index.html?a  => 301 /fares/?a
/fares/              => 200
/                    => 200 cause document
/boats/tern.html     => 200`,
	},
	{
		name: "pages without their ending, and the old addresses too",
		rules: `redirect short on /:page*.html to /{page} as permanent unless path /index.html /*/index.html
fallback pages in / to {path}.html
    accept fallback-hides-missing "only what has a page"`,
		list: `
/about.html          => 301 /about ends 200
/about               => 200 file /about.html
/boats/tern.html     => 301 /boats/tern ends 200
/boats/tern          => 200 file /boats/tern.html
/fares/index.html    => 200
/none.html           => 301 /none ends 404
/photos/tern.jpg     => 200`,
		finds: "chain",
	},
	{
		name:  "small letters everywhere",
		rules: `redirect small on ~/.*[A-Z].* to {path|lower} as permanent`,
		list: `
/About.HTML          => 301 /about.html ends 200
/BOATS/Tern.html?A=B => 301 /boats/tern.html?A=B
/about.html?X=Y      => 200
/F%C3%A4hre.html     => 301 /f%C3%A4hre.html ends 200
/f%C3%84hre.html     => 404`,
		finds: "chain",
	},
	{
		name:  "a slash behind every page",
		rules: "folder all slash leave\nredirect slash on /:page+ to {path}/ as permanent unless path /*.*",
		list: `
/fares               => 301 /fares/ ends 200
/fares/              => 200
/about.html          => 200
/none                => 301 /none/ ends 404
/                    => 200`,
	},
	{
		name:  "no slash behind a page",
		rules: "folder all slash drop\nredirect bare on /:page+/ to /{page} as permanent",
		list: `
/fares/              => 301 /fares ends 200
/fares               => 200 file /fares/index.html
/fares/?day=1        => 301 /fares?day=1
/                    => 200
/none/               => 301 /none ends 404`,
	},
	{
		name:  "two slashes are kept apart from one",
		rules: "site t address https://t.example slashes keep\nreply one on /a/b with 200 text one\nreply two on /a//b with 200 text two\nreply deep on /a//:x//c with 200 text deep\naccess no in /c//d refuse\nredirect old on //x to /a/b as permanent",
		list: `
https://t.example/a/b    => 200 by one
https://t.example/a//b   => 200 by two
https://t.example/a///b  => 404
https://t.example/a//b//c => 200 by deep
https://t.example/a//b/c => 404
https://t.example/c//d/e => 403
https://t.example/c/d/e  => 404
https://t.example//x     => 301 /a/b
https://s.example//about.html => 200`,
	},
	{
		name:  "what a campaign hangs on is cut off",
		rules: "redirect clean when query.source present to {path} as temporary query drop",
		list: `
/fares/?source=letter       => 302 /fares/ ends 200
/fares/?source=letter&day=1 => 302 /fares/
/fares/?day=1               => 200
/fares/?source=             => 302 /fares/
/fares/?resource=1          => 200`,
		finds: "chain",
	},
	{
		name:  "only what the page needs goes along",
		rules: "redirect plan on /plan.php to /planner/ as permanent query only from \"to\"",
		list: `
/plan.php?from=a&to=b&sid=7   => 301 /planner/?from=a&to=b
/plan.php?sid=7               => 301 /planner/
/plan.php?fr%6Fm=a&To=b       => 301 /planner/?fr%6Fm=a
/plan.php?from=a%26to%3Db     => 301 /planner/?from=a%26to%3Db
/plan.php                     => 301 /planner/ ends 200`,
	},
	{
		name: "a list of words, used twice",
		rules: `list islands tern avocet
list staff 192.0.2.0/24 198.51.100.7
redirect island on /island when query.name {islands} to /boats/{query.name}.html as permanent query drop
access crew in /crew/ unless client {staff} refuse
access rota on /rota unless client {staff} refuse 404`,
		list: `
/island?name=tern   => 301 /boats/tern.html ends 200
/island?name=gull   => 404
/crew/              => 200
    client 198.51.100.7
/crew/              => 403
    client 198.51.100.8
/rota               => 404 by rota`,
	},
	{
		name:  "every name below one folder",
		rules: "site names address https://names.example hosts :name.names.example\nredirect name when host :name.names.example to https://s.example/boats/{name}.html as permanent query drop",
		list: `
https://tern.names.example/x?y  => 301 https://s.example/boats/tern.html ends 200
https://TERN.names.example/     => 301 https://s.example/boats/tern.html
https://a.b.names.example/      => 421
https://names.example/          => 403`,
		finds: "missing-target",
	},
	{
		name: "by the browser's language, but only once",
		rules: `redirect german on / when header.accept-language de* when cookie.chosen absent to /de/ as temporary
header spoken on / add Vary Accept-Language`,
		list: `
/      => 302 /de/ ends 200
    Accept-Language: de-AT,de;q=0.9,en;q=0.5
/      => 200 Vary: Accept-Language
    Accept-Language: en,de;q=0.5
/      => 200
    Accept-Language: de
    Cookie: chosen=en
/de/   => 200
    Accept-Language: de`,
	},
	{
		name:  "a port for the crew alone",
		rules: "reply state on /state when port 8443 with 200 text state\naccess office when port over 1024 unless path /state refuse",
		list: `
https://s.example:8443/state   => 200 by state
https://s.example:8443/        => 403 by office
https://s.example/state        => 404
https://s.example:443/         => 200
http://s.example/              => 200`,
	},
	{
		name: "a season, and what it is before and after",
		rules: `redirect winter on /timetable when time after 2026-11-01 before 2027-03-01 to /fares/ as temporary
redirect summer on /timetable to /boats/ as temporary`,
		list: `
/timetable   => 302 /fares/
    time 2026-12-24T12:00:00Z
/timetable   => 302 /fares/
    time 2026-11-01T00:00:00Z
/timetable   => 302 /boats/
    time 2027-03-01T00:00:00Z
/timetable   => 302 /boats/ by summer`,
	},
	{
		name: "a folder is gone, but for two pages",
		rules: `redirect tern on /fleet/tern to /boats/tern.html as permanent
redirect avocet on /fleet/avocet{.html}? to /boats/avocet.html as permanent
reply fleet in /fleet/ with 410 text "We sold them."`,
		list: `
/fleet/tern         => 301 /boats/tern.html ends 200
/fleet/avocet.html  => 301 /boats/avocet.html
/fleet/avocet       => 301 /boats/avocet.html
/fleet/gull         => 410 by fleet
/fleet              => 410
/fleets             => 404`,
	},
	{
		name: "pictures in another size, from one file",
		rules: `rewrite sizes on /photos/:name-:size(small|large).jpg to /photos/{name}.jpg then finish
header kept on /photos/* for 200 default Cache-Control "public, max-age=86400"`,
		list: `
/photos/pier-small.jpg   => 200 file /photos/pier.jpg
    => Content-Type: image/jpeg
/photos/pier-huge.jpg    => 404 without Cache-Control
/photos/none-small.jpg   => 404
/photos/pier.jpg         => 200 Cache-Control: public, max-age=86400`,
	},
	{
		name: "files that never change, and pages that do",
		rules: `header fixed on ~/(styles|scripts)/.*\.(css|js) for 200 default Cache-Control "public, max-age=31536000, immutable"
header pages on /*/ / /*.html for 200 default Cache-Control no-cache
header fonts on /fonts/* set Access-Control-Allow-Origin *`,
		list: `
/styles/site.css   => 200 Cache-Control: public, max-age=31536000, immutable
/scripts/app.js    => 200 Cache-Control: public, max-age=31536000, immutable
/                  => 200 Cache-Control: no-cache
/fares/            => 200 Cache-Control: no-cache
/about.html        => 200 Cache-Control: no-cache
/scripts/none.js   => 404 without Cache-Control
/fonts/a.woff2     => 404 Access-Control-Allow-Origin: *
/photos/pier.jpg   => 200 without Cache-Control`,
	},
	{
		name: "an application that decides for itself, and files beside it",
		rules: `handoff app when file missing unless path /errors/* to http://127.0.0.1:9000
error down for 5xx show /errors/closed.html`,
		list: `
/              => 200
/about.html    => 200
/about         => app by app
POST /about    => app
/boats         => 301 /boats/
/photos/       => 403
/errors/none   => 404`,
	},
	{
		name:  "an old name beside the new one, for two pages alone",
		rules: "redirect old when host www.s.example unless path /about.html /.well-known/* to https://s.example{path} as permanent",
		list: `
https://www.s.example/fares/?a=1                => 301 https://s.example/fares/?a=1 ends 200
https://www.s.example/about.html                => 200
https://www.s.example/.well-known/security.txt  => 200
https://s.example/                              => 200`,
		notes: "split-address",
	},
	{
		name: "the addresses of a shop that was closed",
		rules: `redirect item on ~/shop/(?P<kind>[a-z]+)-(?P<number>\d+)\.html to /fares/?kind={kind}&n={number} as permanent
redirect shop in /shop/ to /fares/ as permanent query drop`,
		list: `
/shop/rope-17.html     => 301 /fares/?kind=rope&n=17 ends 200
/shop/rope-x.html?a=1  => 301 /fares/
/shop                  => 301 /fares/
/shop/Rope-17.html     => 301 /fares/ by shop
/shops                 => 404`,
	},
}

// slips are mistakes of every week, and what check says to them.
var slips = []situation{
	{
		name:  "a slash is added where a folder drops it",
		rules: "folder all slash drop\nredirect slash on /fares to /fares/ as permanent",
		list: `
/fares    => 301 loop
/fares/   => 301 loop`,
		finds: "redirect-loop",
	},
	{
		name:  "capitals to small letters, and back",
		rules: "redirect small on /Boats/:x to /boats/{x} as permanent\nredirect big on /boats/:x to /Boats/{x} as permanent",
		list: `
/boats/tern.html => 301 loop
/Boats/tern.html => 301 loop`,
		finds: "hidden-by-rule redirect-loop",
	},
	{
		name:  "the language page sends back to the home page",
		rules: "redirect german on / when cookie.lang de to /de/ as temporary\nredirect out in /de/ unless cookie.lang en to / as temporary",
		list: `
/        => 302 loop
    Cookie: lang=de
/        => 200
/de/     => 302 / ends 200
/de/     => 200
    Cookie: lang=en`,
		finds: "redirect-loop",
	},
	{
		name:  "a page for what is missing that is itself behind the gate",
		rules: "access crew in /errors/ refuse\nerror e for 404 show /errors/404.html",
		list: `
/none              => 404
/errors/404.html   => 403`,
	},
	{
		name:  "an expression that takes more than it should",
		rules: `redirect fares on ~/.*fares.* to /fares/ as permanent`,
		list: `
/old-fares.php   => 301 /fares/ loop
/fares/          => 301 loop
/welfares        => 301 loop`,
		finds:  "hidden-by-rule redirect-loop",
		mended: `redirect fares on ~/[a-z-]*fares\.php to /fares/ as permanent`,
	},
	{
		name:  "everything to the home page",
		rules: "redirect lost on /* to / as permanent unless path /",
		list: `
/about.html   => 301 / ends 200
/fares/       => 301 /
/             => 200`,
		finds: "hidden-by-rule",
	},
	{
		name:  "a permanent redirect for a season",
		rules: "redirect storm when time after 2026-02-13 before 2026-02-16 unless path /errors/* to /errors/closed.html as permanent",
		list: `
/fares/              => 301 /errors/closed.html
    time 2026-02-14T08:00:00Z
/errors/closed.html  => 200
    time 2026-02-14T08:00:00Z`,
	},
	{
		name:  "a header of its own for one folder",
		rules: "header a set X-Frame-Options DENY\nheader b in /fares/ set X-Frame-Options SAMEORIGIN",
		list: `
/fares/  => 200 X-Frame-Options: SAMEORIGIN
/        => 200 X-Frame-Options: DENY`,
	},
	{
		name:  "compression of what is small already",
		rules: "compress all using gzip types image/jpeg application/pdf",
		list:  "/photos/pier.jpg => 200\n    Accept-Encoding: gzip",
	},
}
