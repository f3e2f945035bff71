# frozen_string_literal: true
require "logger"

# ENV["NOT_THIS"]
module Office
  DEFAULTS = { port: 3000 }.freeze

  def self.env!(name)
    ENV.fetch(name) { raise KeyError, "#{name} is missing" }
  end

  class Config
    attr_reader :port, :url

    def initialize
      @port = Integer(ENV.fetch("«PORT|3000»", "3000"))
      @url = Office.env!("«DATABASE_URL_BY_A_MODULE»")
      @log = Logger.new(ENV["«LOG_FILE»"] || $stdout)
      @workers = (ENV["«WORKERS|2»"] || 2).to_i
    end

    def debug?
      ENV["«DEBUG»"] == "true"
    end
  end

  %w[«REDIS_URL:presence» «MAIL_HOST:presence»].each do |name|
    warn "#{name} is not set" unless ENV.key?(name)
  end
end

if ENV["«PROFILE:presence»"]
  require "profile"
end
system({ "«LANG:set»" => "C" }, "backup")
