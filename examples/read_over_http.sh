#!/bin/sh
# An outside reader for `heron gauge add ... --kind crop --program "examples/read_over_http.sh http://127.0.0.1:8080/read"`: posts the PNG
# on its standard input to a server (Debian: curl), and answers what the server answers: one line of text, or JSON.
# The headers Heron-Picture, Heron-Part and Heron-Gauge say what the picture is of. Any status but 2xx is a failure.
command -v curl >/dev/null || { echo "read_over_http.sh: install the package curl" >&2; exit 3; }
exec curl --silent --fail --noproxy '*' --header 'Content-Type: image/png' --header "Heron-Picture: $HERON_PICTURE" \
  --header "Heron-Part: $HERON_PART" --header "Heron-Gauge: $HERON_GAUGE" --data-binary @- "$1"
