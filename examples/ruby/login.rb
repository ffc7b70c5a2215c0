# Asks the login service over its Unix socket, with the standard library alone.
#
#   require_relative "login"
#   head :unauthorized unless admit(params[:login], params[:password])
#
# By itself, `ruby login.rb LOGIN < password.txt` ends with 0 for yes and 1 for no; so does
# `ruby login.rb change LOGIN` with the old and the new password on two lines.
# `ruby login.rb hash LOGIN < password.txt` prints the stored value, and `ruby login.rb observe LOGIN
# right` (or wrong, or unasked) tells what the old code said.
require "json"
require "net/http"
require "socket"

# Login.
def admit(login, password)
  ask("/v1/admit", store: "passengers", login: login, password: password)["admitted"] == true
end

# While the old code still decides: tell what it said of the password alone. That is true for a
# banned or expired account too, and nil where it refused before it looked at the password.
def observe(login, password, was_right)
  fields = { store: "passengers", login: login, password: password, expected: was_right }
  ask("/v1/admit", **fields.compact)
end

# Registration, a reset behind the mailed link, seeds and imports: the value to store.
def stored_value(login, password)
  ask("/v1/hash", login: login, password: password).fetch("value")
end

# A change by somebody who knows the old password; the service writes it.
def change(login, password, new)
  fields = { store: "passengers", login: login, password: password, new_password: new }
  ask("/v1/change", **fields)["changed"] == true
end

def ask(path, **fields)
  request = Net::HTTP::Post.new(path, "Content-Type" => "application/json", "Host" => "tumbler")
  request.body = JSON.generate(fields)
  socket = Net::BufferedIO.new(UNIXSocket.new(ENV.fetch("SERVICE")), read_timeout: 5)
  request.exec(socket, "1.1", request.path)
  response = nil
  loop do
    response = Net::HTTPResponse.read_new(socket)
    break unless response.is_a?(Net::HTTPContinue)
  end
  response.reading_body(socket, true) {}
  # A new password that breaks rules: show which.
  raise JSON.parse(response.body)["reasons"].join("; ") if response.code == "422"
  # Only a 200 is an answer: a service that is busy must let nobody in, and lock nobody out.
  raise "the login service answered #{response.code}" unless response.is_a?(Net::HTTPOK)
  JSON.parse(response.body)
ensure
  socket&.close
end

if $PROGRAM_NAME == __FILE__
  begin
    password, new = $stdin.read.split("\n", -1)
    case ARGV.fetch(0)
    when "hash" then puts stored_value(ARGV.fetch(1), password)
    when "observe"
      said = { "right" => true, "wrong" => false, "unasked" => nil }
      observe(ARGV.fetch(1), password, said.fetch(ARGV.fetch(2)))
    when "change" then exit(change(ARGV.fetch(1), password, new))
    else exit(admit(ARGV.fetch(0), password))
    end
  rescue SystemCallError, RuntimeError, IOError, Timeout::Error => error
    warn error.message
    exit(3)
  end
end
