# frozen_string_literal: true

require "io/wait"
require "openssl"
require "socket"

module Gerastic
  # A connection to a node, which carries one exchange of HTTP/1.1 (RFC 9112) after the other: net/http takes twice
  # as long as the node. After an error it is of no use.
  class Connection
    # The other side closed a connection before any of its answer came.
    class Gone < StandardError; end

    # What came is no answer of HTTP.
    class BadAnswer < StandardError; end

    # No answer came in time.
    class Late < StandardError; end

    LONGEST_HEAD = 64 << 10
    LONGEST_BODY = 256 << 20

    attr_reader :used # whether it had answers before

    def self.now = Process.clock_gettime(Process::CLOCK_MONOTONIC)

    def initialize(host, port, secure, timeout)
      @used = @begun = false
      @data = +"".b # what came and is not read yet
      @raw = @socket = Socket.tcp(host, port, connect_timeout: timeout)
      @raw.setsockopt(Socket::IPPROTO_TCP, Socket::TCP_NODELAY, 1)
      encrypt(host, Connection.now + timeout) if secure
    rescue StandardError
      close
      raise
    end

    def close
      @socket&.close
      @raw&.close
    rescue SystemCallError, IOError, OpenSSL::SSL::SSLError
      nil
    end

    # The status and body of the answer, and whether there may be another exchange.
    def exchange(request, begins, ends)
      @data = +"".b
      @begun = false
      status, fields = answered(request, begins)
      status, fields = head(begins) while status < 200 # an interim answer (RFC 9110 §15.2)
      raise Gone, "it gave up waiting for a request" if status == 408 # said to a connection that rested (RFC 9110 §15.5.9)

      last = fields["connection"]&.downcase == "close" || !(fields["transfer-encoding"] || fields["content-length"] || status == 204)
      body = read_body(status, fields, ends)
      @used = true
      [status, body, !last && @data.empty?]
    end

    private

    def encrypt(host, ends)
      context = OpenSSL::SSL::SSLContext.new
      context.set_params # certificates are verified
      @socket = OpenSSL::SSL::SSLSocket.new(@raw, context)
      @socket.sync_close = true
      @socket.hostname = host
      patiently(ends) { @socket.connect_nonblock(exception: false) }
      @socket.post_connection_check(host)
    end

    def answered(request, begins)
      sent = 0
      sent += patiently(begins) { @socket.write_nonblock(request.byteslice(sent..), exception: false) } while sent < request.bytesize
      head(begins)
    rescue SystemCallError, IOError, OpenSSL::SSL::SSLError, BadAnswer => e
      raise @begun ? e : Gone.new(e.message)
    end

    # Tries until there is something to read, or room to write.
    def patiently(ends)
      loop do
        result = yield
        return result unless %i[wait_readable wait_writable].include?(result)

        left = ends - Connection.now
        raise Late, "it did not answer in time" if left <= 0

        @raw.public_send(result, left)
      end
    end

    def head(ends)
      text = line("\r\n\r\n", ends)
      status = text[/\AHTTP\/1\.\d (\d{3})(?: |\r|\z)/, 1] or raise BadAnswer, "its answer is not of HTTP/1.1"
      [status.to_i, text.scan(/\r\n(content-length|transfer-encoding|connection):([^\r\n]*)/i).to_h { |name, value| [name.downcase, value.strip] }]
    end

    def line(finish, ends)
      until (at = @data.index(finish))
        raise BadAnswer, "the head of its answer is too long" if @data.bytesize > LONGEST_HEAD

        need(ends)
      end
      text = @data.slice!(0, at + finish.bytesize)
      text[0, at]
    end

    def need(ends)
      more(ends) or raise BadAnswer, "its answer ended too early"
    end

    def more(ends)
      raise Late, "it did not answer in time" if Connection.now > ends

      piece = patiently(ends) { @socket.read_nonblock(256 << 10, exception: false) } or return false
      @data << piece
      @begun = true
    end

    def read_body(status, fields, ends)
      if [204, 304].include?(status) then ""
      elsif fields["transfer-encoding"] then chunks(fields["transfer-encoding"], ends)
      elsif fields["content-length"] then take(number(fields["content-length"], 10), ends)
      else rest(ends)
      end
    end

    def take(size, ends)
      short(size)
      need(ends) while @data.bytesize < size
      @data.slice!(0, size)
    end

    def chunks(coding, ends)
      raise BadAnswer, "its answer is in a transfer coding that nobody asked for" unless coding.downcase == "chunked"

      out = +"".b
      while (size = number(line("\r\n", ends)[/\A[^;]*/], 16)).positive?
        short(out.bytesize + size)
        out << take(size, ends)
        raise BadAnswer, "its answer is in chunks of another length than they say" unless take(2, ends) == "\r\n"
      end
      nil until line("\r\n", ends).empty? # fields behind the body
      out
    end

    def rest(ends)
      short(@data.bytesize) while more(ends)
      @data.slice!(0..)
    end

    def short(size)
      raise BadAnswer, "its answer is too long" if size > LONGEST_BODY
    end

    def number(text, base)
      raise BadAnswer, "its answer says no length" unless text.strip.match?(base == 10 ? /\A\d{1,12}\z/ : /\A\h{1,8}\z/)

      text.to_i(base)
    end
  end
end
