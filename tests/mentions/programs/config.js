"use strict";
// process.env.NOT_HERE is what this used to be
const path = require("path");
const { «NODE_ENV|development» = "development", «PORT» } = process.env;

const required = (name) => {
  const value = process.env[name];
  if (value === undefined) {
    throw new Error(`${name} is missing`);
  }
  return value;
};

module.exports = {
  env: NODE_ENV,
  port: Number(PORT),
  database: {
    url: required("«DATABASE_URL»"),
    pool: parseInt(process.env.«POOL_SIZE|10» || "10", 10),
    ssl: process.env.«DB_SSL» === "true",
  },
  cache: process.env.«CACHE_URL:presence» ? { url: process.env.«CACHE_URL» } : null,
  log: path.join(process.env.«LOG_DIR|/tmp» ?? "/tmp", "app.log"),
  features: (process.env.«FEATURES|» || "").split(","),
};

if (!process.env.«QUIET:presence») {
  console.log("env is", module.exports.env, 'process.env.NOT_THIS');
}
