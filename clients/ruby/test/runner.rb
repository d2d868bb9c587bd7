# frozen_string_literal: true

# Does what the conformance suite says, in lines of JSON; see clients/conformance.
$LOAD_PATH.unshift(File.join(__dir__, "..", "lib"))
require "fileutils"
require "gerastic"
require "net/http"
require "tmpdir"

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
warned = []
fragments = client.fragments(wait: "2s", warn: ->(line) { warned << line })
checked = client.fragments(check: 1, warn: ->(line) { warned << line })
filled = 0

# A thing that says its own key.
Thing = Struct.new(:fragment_key, :fragment_tags)

application = lambda do |env|
  page = env["gerastic.page"]
  next [200, {}, []] if page.unchanged?(modified: Time.utc(2026, 5, 17, 6), parts: [1])

  page.did(queries: 3)
  [200, { "content-type" => "text/html" }, [fragments.load_or_fill(name: "web", lifetime: "1h", tags: ["web"]) { "body" }]]
end
middleware = Gerastic::Rack.new(application, fragments)
directory = Dir.mktmpdir
at_exit { FileUtils.remove_entry(directory) }

# Times calls, in microseconds each: a bare exchange of the same bytes, one fragment found, a hundred in one trip, and
# one by one.
bench = lambda do |ask|
  items = Array.new(100) { |i| { name: "bench", parts: [i], lifetime: "1h" } }
  fragments.load_or_fill_all(items) { "x" * 400 }
  address = URI(ask["control"])
  connection = Net::HTTP.start(address.host, address.port)
  body = Gerastic::CBOR.encode({ "keys" => ["bench(0)"], "have" => [""], "wait" => 2000.0, "lease" => 30_000.0, "details" => true })
  calls = {
    bare: -> { connection.post("/v1/fragments/lookup", body, "Authorization" => "Bearer #{ask['token']}", "Content-Type" => "application/cbor-seq").body },
    one: -> { fragments.load_or_fill(**items[0]) { "" } },
    hundred: -> { fragments.load_or_fill_all(items) { "" } },
    each: -> { items.each { |item| fragments.load_or_fill(**item) { "" } } }
  }
  took = calls.transform_values { [] }
  ask["rounds"].times do
    calls.each do |name, call|
      n = name == :each ? 1 : 50
      began = Process.clock_gettime(Process::CLOCK_MONOTONIC)
      n.times { call.call }
      took[name] << (Process.clock_gettime(Process::CLOCK_MONOTONIC) - began) / n * 1e6
    end
  end
  took.transform_values { |all| all.sort[all.size / 2] }
end

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
  when "thing" then { value: fragments.of(Thing.new(item(ask["item"]), ask["tags"])) { |thing| "of #{thing.fragment_tags.first}" } }
  when "twice"
    fragments.page do |page|
      value = Array.new(2) do |again|
        client.purge(tags: ["other"]) if again == 1 && ask["purge"]
        fragments.load_or_fill(**item(ask["item"])) { "once" }
      end.last
      { value: value, report: page.headers["Server-Timing"] }
    end
  when "nothing" then { value: fragments.load_or_fill(**item(ask["item"])) { nil } }
  when "clash"
    ask["bodies"].each { |language| checked.load_or_fill(**item(ask["item"])) { "in #{language}" } }
    checked.settle && {}
  when "copied"
    checked.load_or_fill(name: "copied", lifetime: "1h") { "one" + "text" }
    checked.load_or_fill(name: "copied", parts: [2], lifetime: "1h") { "another" + "text" }
    checked.load_or_fill(name: "same", parts: [1], lifetime: "1h") { "same" + 1.to_s }
    checked.load_or_fill(name: "same", parts: [2], lifetime: "1h") { "same" + 2.to_s }
    {}
  when "work" then { value: fragments.load_or_fill(**item(ask["item"])) { fragments.did(queries: 2, rows: 10) && "worked" } }
  when "request"
    status, headers, body = middleware.call((ask["headers"] || {}).transform_keys { |name| "HTTP_#{name.upcase.tr('-', '_')}" })
    { status: status, headers: headers, body: body.join }
  when "page"
    File.write(File.join(directory, "page.erb"), '<%= fragments "row", rows, each: :row, parts: [:id], lifetime: "1h", tags: ["row:{id}"] %>')
    File.write(File.join(directory, "row.html.erb"), "<li><%= row[:id] %>#{ask['edition']}</li>")
    before = fragments.counts[:filled]
    html = fragments.templates(directory).render("page", rows: Array.new(ask["rows"]) { |i| { id: i } })
    { html: html, filled: fragments.counts[:filled] - before }
  when "bench" then bench.call(ask)
  when "warned" then { lines: warned.slice!(0..) }
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
