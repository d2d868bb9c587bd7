# frozen_string_literal: true

require "date"
require "time"

module Gerastic
  # Seconds of a life that only a purge or a new version ends.
  FOREVER = 100.0 * 365 * 24 * 3600

  UNITS = { "ms" => 0.001, "s" => 1.0, "m" => 60.0, "h" => 3600.0, "d" => 86_400.0 }.freeze
  NO_VALUE = "a part of the fragment %s is not a value; parts are text, numbers, booleans, times, bytes, and lists of them"
  private_constant :UNITS, :NO_VALUE

  module_function

  # Seconds since 1970.
  def clock = Process.clock_gettime(Process::CLOCK_REALTIME)

  # Reads a length of time: seconds, or "90s", "15m", "1h", "1d", "forever"; an ArgumentError says what is wanted.
  def seconds(time, what = "lifetime")
    return FOREVER if time == "forever"
    return READ[time] if READ.key?(time)

    read = time.to_f if time.is_a?(Numeric)
    if time.is_a?(String) && (match = /\A(\d+(?:\.\d+)?)(ms|s|m|h|d)\z/.match(time))
      read = match[1].to_f * UNITS[match[2]]
    end
    raise ArgumentError, "the #{what}, #{time}, is no length of time; write 90s, 15m, 1h, 1d or forever" unless read&.finite? && read >= 0

    read = [read, FOREVER].min
    READ[time] = read if time.is_a?(String) && READ.size < 256
    read
  end

  READ = {} # lengths of time that were read before

  # The key of a fragment: name("part",2)@"version". An ArgumentError or TypeError says what cannot be part of it.
  def key_of(name, parts = [], version = nil)
    raise ArgumentError, "a fragment's name has 1 to 64 letters, digits, -, _ and .; #{name} is not one" unless /\A[A-Za-z0-9_.-]{1,64}\z/.match?(name.to_s)
    raise TypeError, "the parts of the fragment #{name} are a list" unless parts.is_a?(Array)

    key = "#{name}(#{parts.size == 1 ? value_of(name, parts[0]) : parts.map { |part| value_of(name, part) }.join(',')})"
    key += "@#{value_of(name, version)}" unless version.nil?
    raise ArgumentError, "the key of the fragment #{name} has more than 1024 bytes; use an identifier, or a digest, in place of a long text" if key.bytesize > 1024

    key
  end

  # Writes a part so that it reads one way only: as canonical JSON (RFC 8785), times behind t, bytes behind x.
  def value_of(name, part, depth = 0)
    case part
    when Integer then part.to_s
    when String then part.encoding == Encoding::BINARY ? %(x"#{part.unpack1('H*')}") : quoted_json(name, part)
    when nil, true, false then part.inspect.sub("nil", "null")
    when Float then number_of(name, part)
    when DateTime then value_of(name, part.to_time)
    when Time
      fraction = part.nsec.zero? ? "" : format(".%09d", part.nsec).sub(/0+\z/, "")
      %(t"#{part.getutc.strftime('%Y-%m-%dT%H:%M:%S')}#{fraction}Z")
    when Symbol then value_of(name, part.to_s)
    else
      raise TypeError, format(NO_VALUE, name) unless part.is_a?(Array) && depth < 16

      "[#{part.map { |item| value_of(name, item, depth + 1) }.join(',')}]"
    end
  end

  ESCAPES = { '"' => '\"', "\\" => "\\\\", "\b" => '\b', "\t" => '\t', "\n" => '\n', "\f" => '\f', "\r" => '\r' }.freeze
  private_constant :ESCAPES

  def quoted_json(name, text)
    text = text.encode(Encoding::UTF_8)
    raise ArgumentError, "a part of the fragment #{name} is not text; make it bytes" unless text.valid_encoding?

    %("#{text.gsub(/["\\\u0000-\u001f]/) { |c| ESCAPES[c] || format('\u%04x', c.ord) }}")
  rescue EncodingError
    raise ArgumentError, "a part of the fragment #{name} is not text; make it bytes"
  end

  # Writes a number as ECMAScript does (RFC 8785 §3.2.2.3).
  def number_of(name, number)
    raise ArgumentError, format(NO_VALUE, name) unless number.finite?
    return "0" if number.zero?

    digits, power = format_parts(number.abs)
    out = if power.between?(1, 21)
            digits.size <= power ? digits.ljust(power, "0") : "#{digits[0, power]}.#{digits[power..]}"
          elsif power.between?(-5, 0) then "0.#{'0' * -power}#{digits}"
          else "#{digits[0]}#{".#{digits[1..]}" if digits.size > 1}e#{format('%+d', power - 1)}"
          end
    "#{'-' if number.negative?}#{out}"
  end

  # The shortest digits of a number, and where its point stands behind them.
  def format_parts(number)
    mantissa, exponent = number.to_s.split("e")
    whole, fraction = mantissa.split(".")
    power = exponent.to_i + whole.size
    digits = whole + fraction.to_s
    power -= digits.size - digits.sub(/\A0+/, "").size
    [digits.sub(/\A0+/, "").sub(/0+\z/, ""), power]
  end
  private_class_method :quoted_json, :number_of, :format_parts, :value_of
end
