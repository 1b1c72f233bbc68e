#!/bin/sh
# An outside reader for `heron gauge add ... --kind crop --program examples/read_text.sh`: reads one line of text in the PNG on its
# standard input by tesseract (Debian: tesseract-ocr), and answers it.
command -v tesseract >/dev/null || { echo "read_text.sh: install the package tesseract-ocr" >&2; exit 3; }
tesseract stdin stdout --psm 7 2>/dev/null | tr -d '\f' | head -n 1
