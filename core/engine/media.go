package engine

// Extensions gives the media type of a file's extension (lower case, no dot):
// the same on every machine. The names are those of the IANA registry.
var Extensions = map[string]string{
	"html": "text/html", "htm": "text/html", "xhtml": "application/xhtml+xml",
	"css": "text/css", "js": "text/javascript", "mjs": "text/javascript",
	"json": "application/json", "map": "application/json", "jsonld": "application/ld+json", "geojson": "application/geo+json",
	"webmanifest": "application/manifest+json", "wasm": "application/wasm",
	"txt": "text/plain", "text": "text/plain", "log": "text/plain", "md": "text/markdown", "csv": "text/csv", "tsv": "text/tab-separated-values",
	"ics": "text/calendar", "vcf": "text/vcard", "vtt": "text/vtt",
	"xml": "application/xml", "xsl": "application/xslt+xml", "rss": "application/rss+xml", "atom": "application/atom+xml", "kml": "application/vnd.google-earth.kml+xml", "gpx": "application/gpx+xml",
	"svg": "image/svg+xml", "png": "image/png", "jpg": "image/jpeg", "jpeg": "image/jpeg", "gif": "image/gif", "webp": "image/webp", "avif": "image/avif", "ico": "image/vnd.microsoft.icon", "bmp": "image/bmp", "tif": "image/tiff", "tiff": "image/tiff", "heic": "image/heic", "jxl": "image/jxl",
	"woff": "font/woff", "woff2": "font/woff2", "ttf": "font/ttf", "otf": "font/otf",
	"mp3": "audio/mpeg", "ogg": "audio/ogg", "oga": "audio/ogg", "opus": "audio/ogg", "wav": "audio/wav", "flac": "audio/flac", "m4a": "audio/mp4", "aac": "audio/aac",
	"mp4": "video/mp4", "m4v": "video/mp4", "webm": "video/webm", "ogv": "video/ogg", "mov": "video/quicktime", "mpeg": "video/mpeg",
	"pdf": "application/pdf", "epub": "application/epub+zip", "rtf": "application/rtf",
	"zip": "application/zip", "gz": "application/gzip", "br": "application/x-brotli", "zst": "application/zstd", "tar": "application/x-tar", "7z": "application/x-7z-compressed", "xz": "application/x-xz", "bz2": "application/x-bzip2",
	"doc": "application/msword", "xls": "application/vnd.ms-excel", "ppt": "application/vnd.ms-powerpoint",
	"docx": "application/vnd.openxmlformats-officedocument.wordprocessingml.document",
	"xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
	"pptx": "application/vnd.openxmlformats-officedocument.presentationml.presentation",
	"odt":  "application/vnd.oasis.opendocument.text", "ods": "application/vnd.oasis.opendocument.spreadsheet", "odp": "application/vnd.oasis.opendocument.presentation",
	"sql": "application/sql", "yaml": "application/yaml", "yml": "application/yaml", "toml": "application/toml",
	"eot": "application/vnd.ms-fontobject", "bin": "application/octet-stream",
}
