package org.example.office

import java.time.Duration

object Config {
    private val env: Map<String, String> = System.getenv()

    val host: String = env["«DB_HOST»"] ?: error("no DB_HOST")
    val port: Int = env["«DB_PORT|5432»"]?.toInt() ?: 5432
    val debug: Boolean = System.getenv("«DEBUG|false»")?.toBoolean() ?: false
    val timeout: Duration = Duration.ofSeconds(env.getOrDefault("«TIMEOUT|30»", "30").toLong())
}

fun need(name: String): String = requireNotNull(System.getenv(name)) { "$name is missing" }

fun main() {
    val token = need("«API_TOKEN»")
    if (System.getenv("«VERBOSE:presence»") != null) println("not VERBOSE in a text")
    println("${Config.host} ${System.getenv("«REGION|north»") ?: "north"} $token")
}
