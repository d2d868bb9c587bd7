Gem::Specification.new do |s|
  s.name = "gerastic"
  s.version = "1.0.0"
  s.summary = "Fragments, purges and early answers of a Gerastic node, for Ruby applications"
  s.authors = ["Gerastic"]
  s.required_ruby_version = ">= 3.0"
  s.files = Dir["lib/**/*.rb"]
end
