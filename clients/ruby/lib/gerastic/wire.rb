# frozen_string_literal: true

require "json"
require "net/http"
require "uri"

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

      @token = token
      @lock = Mutex.new
      @idle = []
      @process = Process.pid
      @failures = 0
      @rests_until = 0.0
    end

    # Calls with data items and returns those of the answer, unless the node did not answer several times of late.
    def items(what, namespace, values, timeout, more)
      raise Unreached, "it did not answer several times, and is done without for a moment" if now < @rests_until

      path = "/v1/fragments/#{what}#{Wire.query(namespace)}"
      answer = exchange(Net::HTTP::Post, path, values.map { |value| CBOR.encode(value) }.join, "application/cbor-seq", timeout, more)
      raise Unreached, detail(answer) unless answer.code == "200"

      read = CBOR.decode_all(answer.body || "")
      @failures = 0
      read
    rescue Unreached, CBOR::Malformed => e
      @rests_until = now + BREAK_FOR if (@failures += 1) >= BREAK_AFTER
      raise e if e.is_a?(Unreached)

      raise Unreached, "its answer cannot be read"
    end

    # Makes a call in JSON; the error is a Refused or an Unreached.
    def json(kind, path, value = nil, timeout = 10.0)
      answer = exchange(kind, path, value && JSON.generate(value), "application/json", timeout, timeout)
      raise Refused.new(answer.code.to_i, detail(answer)) if answer.code.to_i >= 400

      answer.code == "204" ? nil : JSON.parse(answer.body.to_s)
    rescue JSON::ParserError
      raise Unreached, "its answer is no JSON"
    end

    def self.query(namespace) = namespace ? "?namespace=#{URI.encode_www_form_component(namespace)}" : ""

    private

    def now = Process.clock_gettime(Process::CLOCK_MONOTONIC)

    def exchange(kind, path, body, type, timeout, more)
      connection, used = take(timeout)
      begin
        request = kind.new(path, "Authorization" => "Bearer #{@token}", "Accept-Encoding" => "identity")
        request["Content-Type"] = type if body
        request.body = body
        ends = now + timeout + more
        answer = connection.request(request) do |coming|
          text = +""
          coming.read_body do |piece|
            text << piece
            connection.read_timeout = [ends - now, 0.001].max
            raise Net::ReadTimeout if now > ends
          end
          coming.body = text.b
        end
        give_back(connection)
        answer
      rescue EOFError, Errno::ECONNRESET, Errno::EPIPE, IOError => e
        close(connection)
        raise Unreached, e.message unless used

        connection, used = take(timeout) # the one before had rested for too long
        retry
      rescue SystemCallError, SocketError, Timeout::Error, Net::ProtocolError, Net::HTTPBadResponse, OpenSSL::SSL::SSLError => e
        close(connection)
        raise Unreached, e.message.lines.first.to_s.strip
      end
    rescue SystemCallError, SocketError, Timeout::Error => e
      raise Unreached, e.message.lines.first.to_s.strip
    end

    def take(timeout)
      connection = @lock.synchronize do
        @idle, @process = [], Process.pid unless @process == Process.pid # the parent's are not ours
        @idle.pop
      end
      used = !connection.nil?
      connection ||= Net::HTTP.new(@address.host, @address.port, nil).tap do |fresh|
        fresh.use_ssl = @address.scheme == "https"
        fresh.open_timeout = timeout
        fresh.max_retries = 0
        fresh.keep_alive_timeout = 30
        fresh.start
      end
      connection.read_timeout = connection.write_timeout = timeout
      [connection, used]
    end

    def give_back(connection)
      kept = @lock.synchronize { connection.started? && @idle.size < MOST_IDLE && @idle.push(connection) }
      close(connection) unless kept
    end

    def close(connection)
      connection.finish if connection.started?
    rescue IOError
      nil
    end

    def detail(answer)
      JSON.parse(answer.body.to_s).fetch("detail")
    rescue JSON::ParserError, KeyError, TypeError
      "it answered #{answer.code}"
    end
  end
end
