# frozen_string_literal: true

# Prints how many seconds so many logins took, and as many runs of the bare primitive, by turns.

require 'json'
require 'openssl'

file, value, logins = ARGV
require File.expand_path(file)

def timed
  start = Process.clock_gettime(Process::CLOCK_MONOTONIC)
  yield
  Process.clock_gettime(Process::CLOCK_MONOTONIC) - start
end

salt = value.split('$')[3].unpack1('m')
check = KioskLogin.new
row = KioskLogin::Row.new(stored: value)
own = bare = 0.0
logins.to_i.times do
  own += timed { check.check(row, 'Gull 4711') }
  bare += timed { OpenSSL::KDF.scrypt('Gull 4711', salt: salt, N: 1 << 14, r: 8, p: 1, length: 32) }
end
puts JSON.generate([own, bare])
