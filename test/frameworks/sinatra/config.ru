# Sinatra with its own sessions, protection and static files, and Rack's flash messages.
require 'sinatra/base'
require 'rack-flash'
require 'rack/protection'

class Ferries < Sinatra::Base
  set :sessions, true
  set :session_secret, 'made up, and as long as Rack wants it to be, which is sixty-four letters'
  set :public_folder, File.join(__dir__, '..', 'public')
  set :host_authorization, { permitted_hosts: [] }
  use Rack::Protection::AuthenticityToken, allow_if: ->(env) { env['PATH_INFO'] == '/upload' }
  use Rack::Flash

  OPEN = Queue.new # one in it for each event stream
  helpers { def user = session[:user] || 'nobody' }

  get('/') { '<h1>Departures from Tholm</h1>' }
  get('/greeting') { request.env['HTTP_ACCEPT_LANGUAGE'].to_s.start_with?('nb') ? 'Hei' : 'Hello' }
  get('/login') do
    session[:user] = params[:as]
    redirect '/me', 303
  end
  get('/me') do
    sleep 0.03
    etag Digest::SHA1.hexdigest(user)
    "Hello #{user}"
  end
  get('/notes') { "token=#{Rack::Protection::AuthenticityToken.token(session)}\nflash=#{flash[:note]}\n" }
  post('/notes') do
    flash[:note] = "saved #{params[:text]}"
    redirect '/notes', 303
  end
  get('/events') do
    content_type 'text/event-stream'
    who = user
    body(Enumerator.new do |out|
      OPEN << 1
      begin
        out << "data: for #{who}\n\n"
        loop do
          sleep 0.1
          out << ": on\n\n"
        end
      ensure
        OPEN.pop
      end
    end)
  end
  get('/open') do
    cache_control :no_store
    OPEN.size.to_s
  end
  post('/upload') { "received #{params[:file][:tempfile].size}" }
  # As the other frameworks have them, static files are below /static/.
  get('/static/*') { send_file File.join(settings.public_folder, File.basename(params[:splat].first)) }
end
run Ferries
