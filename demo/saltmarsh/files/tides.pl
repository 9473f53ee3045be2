#!/usr/bin/perl
# The tide gauge of the north quay: says over HTTP how high the water stands. The tide has a
# period of 12 hours and 25 minutes.
use strict;
use IO::Socket::INET;

my $listener = IO::Socket::INET->new(LocalAddr => '127.0.0.1', LocalPort => 9000, Listen => 16, ReuseAddr => 1)
  or die "cannot listen on port 9000: $@";
while (1) {
    my $visitor = $listener->accept or next;
    local $SIG{ALRM} = sub { $visitor->close };
    alarm 5;
    while (defined(my $line = <$visitor>)) { last if $line =~ /^\r?\n$/ }
    alarm 0;
    my $minute = int(time / 60) % 745;
    my $text = sprintf "The tide at the north quay stands at %.1f metres.\n", ($minute < 372 ? $minute : 745 - $minute) / 100;
    print $visitor "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: " . length($text) . "\r\nConnection: close\r\n\r\n$text";
    close $visitor;
}
