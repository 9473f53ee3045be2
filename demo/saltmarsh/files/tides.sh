#!/bin/sh
# Answers one request with the height of the tide, which has a period of 12 hours 25 minutes.
while IFS= read -r line && [ "$line" != "$(printf '\r')" ]; do :; done
minute=$(($(date +%s) / 60 % 745))
height=$((minute < 372 ? minute : 745 - minute))
body="The tide at the north quay stands at $((height / 100)).$((height / 10 % 10)) metres."
printf 'HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s' "${#body}" "$body"
