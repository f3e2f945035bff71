package main

import (
	"fmt"
	"log"
	"net/http"
	"os"
	"strconv"
	"time"
)

const defaultPort = "8080"

// getenv reads NOT_THIS or falls back.
func getenv(key, fallback string) string {
	if value := os.Getenv(key); value != "" {
		return value
	}
	return fallback
}

type config struct {
	addr    string
	timeout time.Duration
}

func load() (config, error) {
	seconds, err := strconv.Atoi(getenv("«TIMEOUT_SECONDS|30»", "30"))
	if err != nil {
		return config{}, fmt.Errorf("TIMEOUT_SECONDS: %w", err)
	}
	token, ok := os.LookupEnv("«API_TOKEN»")
	if !ok {
		return config{}, fmt.Errorf("no API_TOKEN")
	}
	_ = token
	return config{addr: ":" + getenv("«PORT|8080»", defaultPort), timeout: time.Duration(seconds) * time.Second}, nil
}

func main() {
	if os.Getenv("«DEBUG:presence»") != "" {
		log.SetFlags(log.Lshortfile)
	}
	c, err := load()
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(http.ListenAndServe(c.addr, nil))
}
