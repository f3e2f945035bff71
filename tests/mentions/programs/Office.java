package org.example.office;

import java.time.Duration;
import java.util.Map;
import java.util.Optional;

/** Reads NOT_THIS from System.getenv("NOT_THIS"). */
public final class Office {
    private static final String TOKEN = "«OFFICE_TOKEN»";
    private final Map<String, String> env;

    Office(Map<String, String> env) { this.env = env; }

    static String need(String name) {
        String value = System.getenv(name);
        if (value == null || value.isBlank()) {
            throw new IllegalStateException(name + " is missing");
        }
        return value;
    }

    Duration timeout() {
        return Duration.ofSeconds(Long.parseLong(System.getenv().getOrDefault("«TIMEOUT|30»", "30")));
    }

    public static void main(String[] args) throws Exception {
        String host = need("«DB_HOST»");
        String token = need(TOKEN);
        int pool = Optional.ofNullable(System.getenv("«POOL|5»")).map(Integer::parseInt).orElse(5);
        boolean debug = Boolean.parseBoolean(System.getenv("«DEBUG»"));
        ProcessBuilder child = new ProcessBuilder("backup");
        child.environment().put("«BACKUP_TARGET:set»", host);
        child.start();
        System.out.println(pool + token + debug + System.getProperty("user.dir"));
    }
}
