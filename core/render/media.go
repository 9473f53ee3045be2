package render

import "strings"

// media is one media type, and the endings of the names of files that are of it.
type media struct {
	is      string
	endings []string
}

// mediaTypes are the media types of files, the same on every server, in place of the tables that each
// brings along (https://www.iana.org/assignments/media-types, RFC 9239 for scripts). A file with
// another ending is sent without a type.
var mediaTypes = []media{
	{"text/html", []string{"html", "htm"}},
	{"text/css", []string{"css"}},
	{"text/javascript", []string{"js", "mjs"}},
	{"text/plain", []string{"txt", "text", "log"}},
	{"text/csv", []string{"csv"}},
	{"text/markdown", []string{"md", "markdown"}},
	{"text/calendar", []string{"ics"}},
	{"text/vcard", []string{"vcf"}},
	{"text/vtt", []string{"vtt"}},
	{"application/json", []string{"json", "map"}},
	{"application/ld+json", []string{"jsonld"}},
	{"application/geo+json", []string{"geojson"}},
	{"application/manifest+json", []string{"webmanifest"}},
	{"application/feed+json", []string{"jsonfeed"}},
	{"application/xml", []string{"xml", "xsl"}},
	{"application/atom+xml", []string{"atom"}},
	{"application/rss+xml", []string{"rss"}},
	{"application/xhtml+xml", []string{"xhtml"}},
	{"application/gpx+xml", []string{"gpx"}},
	{"application/yaml", []string{"yaml", "yml"}},
	{"application/wasm", []string{"wasm"}},
	{"application/pdf", []string{"pdf"}},
	{"application/rtf", []string{"rtf"}},
	{"application/epub+zip", []string{"epub"}},
	{"application/zip", []string{"zip"}},
	{"application/gzip", []string{"gz", "tgz"}},
	{"application/zstd", []string{"zst"}},
	{"application/x-tar", []string{"tar"}},
	{"application/x-bzip2", []string{"bz2"}},
	{"application/x-xz", []string{"xz"}},
	{"application/x-7z-compressed", []string{"7z"}},
	{"application/msword", []string{"doc"}},
	{"application/vnd.ms-excel", []string{"xls"}},
	{"application/vnd.ms-powerpoint", []string{"ppt"}},
	{"application/vnd.openxmlformats-officedocument.wordprocessingml.document", []string{"docx"}},
	{"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", []string{"xlsx"}},
	{"application/vnd.openxmlformats-officedocument.presentationml.presentation", []string{"pptx"}},
	{"application/vnd.oasis.opendocument.text", []string{"odt"}},
	{"application/vnd.oasis.opendocument.spreadsheet", []string{"ods"}},
	{"application/vnd.oasis.opendocument.presentation", []string{"odp"}},
	{"application/vnd.apple.mpegurl", []string{"m3u8"}},
	{"application/octet-stream", []string{"bin", "exe", "dll", "deb", "rpm", "iso", "img", "dmg", "msi"}},
	{"image/svg+xml", []string{"svg"}},
	{"image/png", []string{"png"}},
	{"image/jpeg", []string{"jpg", "jpeg"}},
	{"image/gif", []string{"gif"}},
	{"image/webp", []string{"webp"}},
	{"image/avif", []string{"avif"}},
	{"image/bmp", []string{"bmp"}},
	{"image/tiff", []string{"tif", "tiff"}},
	{"image/vnd.microsoft.icon", []string{"ico"}},
	{"font/woff", []string{"woff"}},
	{"font/woff2", []string{"woff2"}},
	{"font/ttf", []string{"ttf"}},
	{"font/otf", []string{"otf"}},
	{"font/collection", []string{"ttc"}},
	{"application/vnd.ms-fontobject", []string{"eot"}},
	{"audio/mpeg", []string{"mp3"}},
	{"audio/mp4", []string{"m4a"}},
	{"audio/aac", []string{"aac"}},
	{"audio/flac", []string{"flac"}},
	{"audio/ogg", []string{"ogg", "oga", "opus"}},
	{"audio/wav", []string{"wav"}},
	{"audio/midi", []string{"mid", "midi"}},
	{"video/mp4", []string{"mp4", "m4v"}},
	{"video/mpeg", []string{"mpeg", "mpg"}},
	{"video/ogg", []string{"ogv"}},
	{"video/webm", []string{"webm"}},
	{"video/quicktime", []string{"mov"}},
	{"video/mp2t", []string{"ts"}},
	{"video/x-matroska", []string{"mkv"}},
}

// text says whether the character set of a site is said of a type: of all text, and of nothing
// else, which says it itself or has none to say (RFC 8259, RFC 7303).
func (m media) text() bool { return strings.HasPrefix(m.is, "text/") }

// mediaThat are the types of which something is so.
func mediaThat(is func(m media) bool) []string {
	var out []string
	for _, m := range mediaTypes {
		if is(m) {
			out = append(out, m.is)
		}
	}
	return out
}

// compressed are the types that compression makes smaller.
var compressed = mediaThat(func(m media) bool {
	return m.text() || strings.HasSuffix(m.is, "json") || strings.HasSuffix(m.is, "xml") || m.is == "application/yaml" || m.is == "application/wasm" || m.is == "image/vnd.microsoft.icon" || m.is == "image/bmp" || m.is == "font/ttf" || m.is == "font/otf"
})

// withDots are endings as they stand at the end of names.
func (m media) withDots() string { return "." + strings.Join(m.endings, " .") }
