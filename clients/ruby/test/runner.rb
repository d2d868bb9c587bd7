# frozen_string_literal: true

# Does what the conformance suite says, in lines of JSON; see clients/conformance.
$LOAD_PATH.unshift(File.join(__dir__, "..", "lib"))
require "gerastic"

def read(v)
  case v
  when Array then v.map { |one| read(one) }
  when Hash
    if v.key?("time") then Time.iso8601(v["time"])
    elsif v.key?("hex") then [v["hex"]].pack("H*")
    elsif v.key?("long") then "x" * v["long"]
    elsif v.key?("map") then v["map"].to_h { |name, value| [name, read(value)] }
    else [] # list
    end
  else v
  end
end

def shown(v)
  case v
  when Array then v.map { |one| shown(one) }
  when Hash then { map: v.map { |name, value| [name, shown(value)] } }
  when String then v.encoding == Encoding::BINARY ? { hex: v.unpack1("H*") } : v
  else v
  end
end

def item(given)
  given.to_h { |name, value| [name.to_sym, %w[parts version].include?(name) ? read(value) : value] }
end

client = Gerastic::Client.new(ARGV[0], ARGV[1])
fragments = client.fragments(wait: "2s")
filled = 0

perform = lambda do |ask|
  before = filled
  case ask["do"]
  when "key" then { key: Gerastic.key_of(ask["name"], read(ask["parts"] || []), read(ask["version"])) }
  when "seconds" then { seconds: Gerastic.seconds(ask["time"]) }
  when "encode" then { hex: Gerastic::CBOR.encode(read(ask["value"])).unpack1("H*") }
  when "decode" then { value: shown(Gerastic::CBOR.decode_all([ask["hex"]].pack("H*")).first) }
  when "quoted" then { field: Gerastic.quoted(ask["text"]) }
  when "unchanged"
    page = Gerastic::Scope.new
    same = page.unchanged?(ask["headers"] || {}, modified: ask["modified"] && Time.iso8601(ask["modified"]), parts: read(ask["parts"] || []))
    { unchanged: same, headers: page.headers }
  when "fill"
    fragments.page do |page|
      value = fragments.load_or_fill(**item(ask["item"])) do
        inner = ask["inner"] ? fragments.load_or_fill(**item(ask["inner"])) { "inner" } : ""
        filled += 1
        sleep((ask["sleep_ms"] || 0) / 1000.0)
        raise ask["fail"] if ask["fail"]

        ask["body"] + inner
      end
      { value: value, filled: filled - before, headers: page.headers }
    end
  when "many"
    values = fragments.load_or_fill_all(ask["items"].map { |given| item(given) }) do |given|
      filled += 1
      "#{given[:name]}#{given[:parts].first}"
    end
    { values: values, filled: filled - before }
  when "load" then { value: fragments.load(**item(ask["item"]))&.force_encoding(Encoding::UTF_8) }
  when "store" then { stored: fragments.store(ask["body"], **item(ask["item"])) }
  when "drop" then fragments.drop(**item(ask["item"])) || {}
  when "purge" then client.purge(**ask["order"].transform_keys(&:to_sym)) && {}
  when "settle" then fragments.settle && {}
  else { counts: fragments.counts }
  end
end

while (line = $stdin.gets)
  answer = begin
    perform.call(JSON.parse(line))
  rescue StandardError => e
    { error: e.message }
  end
  puts JSON.generate(answer)
  $stdout.flush
end
