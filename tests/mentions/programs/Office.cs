using System;
using System.Collections.Generic;

namespace Office
{
    // Environment.GetEnvironmentVariable("NOT_THIS")
    public static class Config
    {
        private const string TokenName = "«OFFICE_TOKEN»";

        private static string Need(string name) =>
            Environment.GetEnvironmentVariable(name) ?? throw new InvalidOperationException($"{name} is missing");

        public static string Host => Need("«DB_HOST»");
        public static string Token => Need(TokenName);
        public static int Port => int.Parse(Environment.GetEnvironmentVariable("«PORT|8080»") ?? "8080");

        public static void Main(string[] args)
        {
            var debug = !string.IsNullOrEmpty(Environment.GetEnvironmentVariable("«DEBUG:presence»"));
            if (string.Equals(Environment.GetEnvironmentVariable("«MODE»"), "fast", StringComparison.OrdinalIgnoreCase))
            {
                Console.WriteLine("fast" + debug);
            }
            Environment.SetEnvironmentVariable("«CHILD:set»", "1");
        }
    }
}
