#!/bin/sh
# Makes the bundles that the tests read, with openssl 3: sh make.sh. Their password is "harbour".
set -eu
cd "$(dirname "$0")"
d=$(mktemp -d)
ca() { openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -keyout "$d/ca.key" -out "$d/ca.pem" -days 36500 -subj "/CN=Harbour Office Authority" 2>/dev/null; }
leaf() { # NAME KEY-OPTIONS
  name=$1; shift
  openssl req -new "$@" -nodes -keyout "$d/$name.key" -out "$d/$name.csr" -subj "/CN=$name.saltmarsh.test" 2>/dev/null
  printf 'subjectAltName=DNS:%s.saltmarsh.test\nextendedKeyUsage=serverAuth\nbasicConstraints=CA:FALSE\n' "$name" > "$d/ext"
  openssl x509 -req -in "$d/$name.csr" -CA "$d/ca.pem" -CAkey "$d/ca.key" -CAcreateserial -days 36500 -extfile "$d/ext" -out "$d/$name.pem" 2>/dev/null
}
export_() { openssl pkcs12 -export -passout pass:harbour "$@"; }
ca
leaf timetable -newkey ec -pkeyopt ec_paramgen_curve:prime256v1
leaf freight -newkey rsa:2048
export_ -inkey "$d/timetable.key" -in "$d/timetable.pem" -certfile "$d/ca.pem" -out aes.p12
export_ -inkey "$d/freight.key" -in "$d/freight.pem" -certfile "$d/ca.pem" -legacy -out rc2.p12
export_ -inkey "$d/freight.key" -in "$d/freight.pem" -certfile "$d/ca.pem" -legacy -certpbe PBE-SHA1-3DES -keypbe PBE-SHA1-3DES -macalg sha1 -out 3des.p12
export_ -inkey "$d/timetable.key" -in "$d/timetable.pem" -nomac -keypbe NONE -certpbe NONE -passout pass: -out open.p12
export_ -nokeys -in "$d/timetable.pem" -out no-key.p12
export_ -nocerts -inkey "$d/timetable.key" -out no-certificate.p12
export_ -inkey "$d/timetable.key" -in "$d/timetable.pem" -iter 6000000 -out slow.p12
rm -r "$d"
