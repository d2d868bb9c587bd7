# frozen_string_literal: true

module Gerastic
  # The part of CBOR (RFC 8949) that the calls for many fragments are made of: texts are UTF-8 strings, bytes
  # binary ones. A call's body is a sequence of data items (RFC 8742).
  module CBOR
    class Malformed < StandardError; end

    module_function

    def encode(value) = write("".b, value)

    # Appends a value to some bytes.
    def write(out, value)
      case value
      when String
        return head(out, 0x40, value.bytesize) << value if value.encoding == Encoding::BINARY

        head(out, 0x60, value.bytesize) << (value.ascii_only? ? value : value.b)
      when Float then out << "\xFB".b << [value].pack("G")
      when Hash
        head(out, 0xA0, value.size)
        value.each { |name, one| write(write(out, name), one) }
        out
      when Array
        head(out, 0x80, value.size)
        value.each { |one| write(out, one) }
        out
      when Integer then value >= 0 ? head(out, 0x00, value) : head(out, 0x20, -1 - value)
      when nil then out << 0xF6
      when true then out << 0xF5
      when false then out << 0xF4
      when Symbol then write(out, value.to_s)
      else raise TypeError, "a #{value.class} cannot be sent"
      end
    end

    def head(out, major, n)
      return out << (major | n) if n < 24
      return out << (major | 24) << n if n < 256

      code, form = [[25, "n", 16], [26, "N", 32], [27, "Q>", 64]].find { |_, _, bits| n < 1 << bits }
      out << (major | code) << [n].pack(form)
    end

    # Decodes all data items in some bytes; the error is a Malformed.
    def decode_all(bytes)
      reader = Reader.new(bytes.b)
      items = []
      items << reader.item(0) until reader.end?
      items
    end

    # Reads items one after the other.
    class Reader
      def initialize(bytes)
        @bytes = bytes
        @at = 0
      end

      def end? = @at >= @bytes.bytesize

      def take(n)
        raise Malformed, "the answer ends within an item" if n > @bytes.bytesize - @at

        @at += n
        @bytes.byteslice(@at - n, n)
      end

      def item(depth)
        raise Malformed, "items are nested too deeply" if depth > 16

        first = byte
        return first if first < 24
        return take(8).unpack1("G") if first == 0xFB

        major = first >> 5
        n = first & 31
        return simple(n) if major == 7

        if n >= 24
          raise Malformed, "an item of indefinite length" if n > 27

          n = take(1 << (n - 24)).unpack1(LENGTHS[n])
        end
        container(major, n, depth)
      end

      LENGTHS = { 24 => "C", 25 => "n", 26 => "N", 27 => "Q>" }.freeze

      def byte
        first = @bytes.getbyte(@at)
        raise Malformed, "the answer ends within an item" unless first

        @at += 1
        first
      end

      def simple(n)
        case n
        when 20 then false
        when 21 then true
        when 22 then nil
        when 26 then take(4).unpack1("g")
        when 27 then take(8).unpack1("G")
        else raise Malformed, "a simple value that is not known"
        end
      end

      def container(major, n, depth)
        case major
        when 0 then n
        when 1 then -1 - n
        when 2 then take(n)
        when 3 then text(n)
        when 4 then floats(known(n)) || Array.new(n) { item(depth + 1) }
        when 5
          members = {}
          known(n).times { members[name(depth)] = item(depth + 1) }
          members
        else raise Malformed, "a tagged item"
        end
      end

      def known(n)
        raise Malformed, "the answer ends within an item" if n > @bytes.bytesize - @at

        n
      end

      # A list of numbers of 64 bits only, at once; nil if it is none.
      def floats(n)
        return if n < 2 || 9 * n > @bytes.bytesize - @at
        return unless (0...n).all? { |i| @bytes.getbyte(@at + (9 * i)) == 0xFB }

        take(9 * n).unpack("xG" * n)
      end

      # Names that answers have, by their bytes.
      NAMES = %w[at state age left body etag same ages lives tagsets tags type lease waited coding cause namespace stamp stored].to_h { |word| [word.b.freeze, word.freeze] }.freeze

      def text(n) = text_of(take(n))

      def text_of(bytes)
        read = bytes.force_encoding(Encoding::UTF_8)
        raise Malformed, "a text that is not UTF-8" unless read.valid_encoding?

        read
      end

      def name(depth)
        size = (@bytes.getbyte(@at) || 0) - 0x60
        if size >= 0 && size < 24 # a short name, as all are
          @at += 1
          return NAMES[take(size)] || text_of(@bytes.byteslice(@at - size, size))
        end
        read = item(depth + 1)
        raise Malformed, "a member whose name is not text" unless read.is_a?(String) && read.encoding == Encoding::UTF_8

        read
      end
    end
  end
end
