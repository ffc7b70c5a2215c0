# Asks the login service over its Unix socket, with the standard library alone.
#
#   require_relative "login"
#   head :unauthorized unless admit(params[:login], params[:password])
#
# By itself, `ruby login.rb LOGIN < password.txt` ends with 0 for yes and 1 for no.
require "json"
require "net/http"
require "socket"

def admit(login, password)
  body = JSON.generate(store: "passengers", login: login, password: password)
  request = Net::HTTP::Post.new("/v1/admit", "Content-Type" => "application/json", "Host" => "tumbler")
  request.body = body
  socket = Net::BufferedIO.new(UNIXSocket.new(ENV.fetch("SERVICE")), read_timeout: 5)
  request.exec(socket, "1.1", request.path)
  response = nil
  loop do
    response = Net::HTTPResponse.read_new(socket)
    break unless response.is_a?(Net::HTTPContinue)
  end
  response.reading_body(socket, true) {}
  # Only a 200 is an answer: a service that is busy must let nobody in, and lock nobody out.
  raise "the login service answered #{response.code}" unless response.is_a?(Net::HTTPOK)
  JSON.parse(response.body)["admitted"] == true
ensure
  socket&.close
end

if $PROGRAM_NAME == __FILE__
  begin
    exit(admit(ARGV.fetch(0), $stdin.read.chomp))
  rescue SystemCallError, RuntimeError, IOError, Timeout::Error => error
    warn error.message
    exit(3)
  end
end
