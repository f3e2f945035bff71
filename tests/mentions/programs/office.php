<?php
declare(strict_types=1);

namespace Office;

// getenv('NOT_THIS')
function env(string $name, ?string $default = null): ?string
{
    $value = getenv($name);
    return $value === false ? $default : $value;
}

final class Config
{
    public string $host;
    public int $port;

    public function __construct()
    {
        $this->host = $_ENV['«DB_HOST|localhost»'] ?? 'localhost';
        $this->port = (int) (getenv('«DB_PORT|3306»') ?: '3306');
        if (getenv('«DEBUG:presence»')) {
            error_reporting(E_ALL);
        }
    }
}

$mode = env('«APP_MODE|prod»', 'prod');
$key = $_SERVER['«APP_KEY»'] ?? null;
$method = $_SERVER['REQUEST_METHOD'];
putenv('«TZ:set»=UTC');
