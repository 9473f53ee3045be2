Name: curl
Version: 7.88.1
Release: 1.hb1
Summary: A program that fetches from URLs
License: MIT
AutoReqProv: no
%global debug_package %{nil}
%global _buildshell /bin/bash

%description
Lab build of curl from Debian's program, with its library beside it.

%install
b=%{buildroot}
mkdir -p $b/usr/bin $b/usr/lib64/curl
install -m755 /usr/bin/curl $b/usr/lib64/curl/curl
cp -L $(ldd /usr/bin/curl | awk '$3 ~ /^\// {print $3}' | grep -v -E '/(libc|ld-linux|libm|libpthread)\.') $b/usr/lib64/curl/
printf '#!/bin/sh\nLD_LIBRARY_PATH=/usr/lib64/curl exec /usr/lib64/curl/curl "$@"\n' > $b/usr/bin/curl

%files
%attr(0755,root,root) /usr/bin/curl
/usr/lib64/curl
