#!/usr/bin/perl
# Counts who comes aboard; dies with the words of its language.
use strict;
use warnings;
use Fcntl qw(:flock);
use IO::Socket::INET;

my ($option, $path) = @ARGV;
die "usage: gangway --config FILE\n" unless defined $path && $option eq '--config';
my %conf;
open(my $in, '<', $path) or die "Can't open configuration $path: $!";
while (<$in>) {
    next if /^\s*(#|$)/;
    /^\s*(\w+)\s*=\s*(\S+)\s*$/ or die "syntax error in $path line $.\n";
    my ($key, $value) = ($1, $2);
    die "$path:$.: bad option '$key'\n" unless $key =~ /^(listen|data|log|lock|workers|mode)$/;
    $conf{$key} = $value;
}
die "$path: workers out of range\n" if $conf{workers} !~ /^\d+$/ || $conf{workers} > 64;
open(my $log, '>>', $conf{log}) or die "Cannot write log $conf{log}: $!\n";
open(my $lock, '+<', $conf{lock}) or die "Cannot open $conf{lock}: $!\n";
flock($lock, LOCK_EX | LOCK_NB) or die "Another gangway has locked $conf{lock}\n";
open(my $data, '>>', $conf{data}) or die "Cannot append to $conf{data}: $!\n";
my $server = IO::Socket::INET->new(LocalAddr => $conf{listen}, Listen => 5, ReuseAddr => 1)
    or die "Can't listen on $conf{listen}: $!\n";
print $log "gangway down\n";
while (my $guest = $server->accept) { close $guest }
