# frozen_string_literal: true

# Asks a written check, a question a line, and prints its answers: driver.rb FILE CLASS KEYS.

require 'json'

file, name, given = ARGV
require File.expand_path(file)
WRITTEN = Object.const_get(name)
LOGIN = WRITTEN.new(JSON.parse(given).transform_values { |raw| [raw].pack('H*') })

def raw(text)
  text&.unpack1('m0')
end

def row(asked)
  WRITTEN::Row.new(
    stored: raw(asked['stored']), salt: raw(asked['salt']), login: asked['login'], account: asked['account'],
    columns: asked['columns'].transform_values { |text| raw(text) }
  )
end

def answered(asked)
  password = raw(asked['password']).force_encoding('UTF-8')
  return { value: LOGIN.new_value(password, asked['login'], asked['account']) } if asked['new']

  answer = LOGIN.check(row(asked), password)
  if asked['file']
    LOGIN.count(asked['file'], asked['key'], asked['login'], answer, expected: asked['expected'])
  end
  answer.to_h
rescue WRITTEN::CheckImpossible => e
  { error: e.message }
rescue WRITTEN::PasswordRefused => e
  { reasons: e.reasons.join(',') }
end

$stdin.each_line { |line| puts JSON.generate(answered(JSON.parse(line))) }
