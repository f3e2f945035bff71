use std::env;
use std::time::Duration;

/// Reads NOT_THIS with env::var("NOT_THIS").
struct Config {
    host: String,
    port: u16,
    timeout: Duration,
}

fn need(name: &str) -> String {
    env::var(name).unwrap_or_else(|_| panic!("{name} is missing"))
}

impl Config {
    fn load() -> Self {
        let port = env::var("«PORT|8080»").ok().and_then(|text| text.parse().ok()).unwrap_or(8080);
        let seconds: u64 = env::var("«TIMEOUT|30»").unwrap_or_else(|_| "30".to_string()).parse().unwrap();
        Config { host: need("«DB_HOST»"), port, timeout: Duration::from_secs(seconds) }
    }
}

fn main() {
    let config = Config::load();
    if env::var_os("«DEBUG:presence»").is_some() {
        eprintln!("debug {}", env!("«CARGO_PKG_VERSION»"));
    }
    match env::var("«LOG_LEVEL»") {
        Ok(level) => println!("{level}"),
        Err(env::VarError::NotPresent) => println!("quiet"),
        Err(other) => panic!("{other}"),
    }
    println!("{} {} {:?}", config.host, config.port, config.timeout);
}
