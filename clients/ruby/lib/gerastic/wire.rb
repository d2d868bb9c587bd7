# frozen_string_literal: true

require "json"
require "uri"
require_relative "connection"

module Gerastic
  # How calls reach a node: connections that are kept, time limits, and a breaker. It may be used by several
  # threads, and after a fork.
  class Wire
    BREAK_AFTER = 5
    BREAK_FOR = 2.0
    MOST_IDLE = 16

    def initialize(control, token)
      @address = URI(control.include?("://") ? control : "http://#{control}")
      raise ArgumentError, "control: #{control.inspect} is no address; write http://127.0.0.1:8490" unless @address.is_a?(URI::HTTP) && @address.host
      raise ArgumentError, "a token is missing; make one with: gerastic token create --name APP --rights fragments --namespace APP" if token.to_s.empty?

      @head = "Host: #{@address.host}:#{@address.port}\r\nAuthorization: Bearer #{token}\r\n"
      raise ArgumentError, "the token is not one line of ASCII" unless @head.ascii_only? && @head.count("\r\n") == 4

      @lock = Mutex.new
      @idle = []
      @process = Process.pid
      @failures = 0
      @rests_until = 0.0
    end

    # Calls with data items and returns those of the answer, unless the node did not answer several times of late.
    def items(what, namespace, values, timeout, more)
      raise Unreached, "it did not answer several times, and is done without for a moment" if Connection.now < @rests_until

      path = "/v1/fragments/#{what}#{Wire.query(namespace)}"
      status, body = exchange("POST", path, values.map { |value| CBOR.encode(value) }.join, "application/cbor-seq", timeout, more)
      raise Unreached, detail(status, body) unless status == 200

      read = CBOR.decode_all(body)
      @failures = 0
      read
    rescue Unreached, CBOR::Malformed => e
      @rests_until = Connection.now + BREAK_FOR if (@failures += 1) >= BREAK_AFTER
      raise e if e.is_a?(Unreached)

      raise Unreached, "its answer cannot be read"
    end

    # Makes a call in JSON; the error is a Refused or an Unreached.
    def json(method, path, value = nil, timeout = 10.0)
      status, body = exchange(method, path, value && JSON.generate(value), "application/json", timeout, timeout)
      raise Refused.new(status, detail(status, body)) if status >= 400

      status == 204 ? nil : JSON.parse(body)
    rescue JSON::ParserError
      raise Unreached, "its answer is no JSON"
    end

    def self.query(namespace) = namespace ? "?namespace=#{URI.encode_www_form_component(namespace)}" : ""

    private

    # The answer has begun within timeout seconds and ended more seconds later, or it is Unreached.
    def exchange(method, path, body, type, timeout, more)
      request = "#{method} #{@address.path.chomp('/')}#{path} HTTP/1.1\r\n#{@head}"
      request += "Content-Type: #{type}\r\nContent-Length: #{body.bytesize}\r\n" if body
      request = request.b << "\r\n" << body.to_s.b
      begins = Connection.now + timeout
      begin
        connection = nil
        connection = take(timeout)
        status, text, again = connection.exchange(request, begins, begins + more)
        again ? give_back(connection) : connection.close
        [status, text]
      rescue Connection::Gone => e
        connection.close
        retry if connection.used # it had rested for too long

        raise Unreached, e.message
      rescue SystemCallError, SocketError, IOError, Connection::Late, Connection::BadAnswer, OpenSSL::SSL::SSLError => e
        connection&.close
        raise Unreached, e.message.lines.first.to_s.strip
      end
    end

    def take(timeout)
      idle = @lock.synchronize do
        @idle, @process = [], Process.pid unless @process == Process.pid # the parent's are not ours
        @idle.pop
      end
      idle || Connection.new(@address.hostname, @address.port, @address.scheme == "https", timeout)
    end

    def give_back(connection)
      kept = @lock.synchronize { @idle.size < MOST_IDLE && @idle.push(connection) }
      connection.close unless kept
    end

    def detail(status, body)
      JSON.parse(body).fetch("detail")
    rescue JSON::ParserError, KeyError, TypeError
      "it answered #{status}"
    end
  end
end
