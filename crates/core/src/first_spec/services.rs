//! Services that projects talk to, each as a block of a spec that works as it is: files in a kept folder, made at the
//! first start, and a service that tells when it is ready.

/// A kind of service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// PostgreSQL.
    Postgresql,
    /// MariaDB, which speaks MySQL's protocol.
    Mariadb,
    /// A key-value store that speaks RESP.
    Redis,
}

impl Kind {
    /// The kind that an address is of, by its scheme (RFC 3986, section 3.1).
    pub fn of_address(address: &str) -> Option<Self> {
        let (scheme, _) = address.split_once("://")?;
        match scheme.split('+').next()? {
            "postgres" | "postgresql" => Some(Self::Postgresql),
            "mysql" | "mysql2" | "mariadb" => Some(Self::Mariadb),
            "redis" => Some(Self::Redis),
            _ => None,
        }
    }

    /// The kind that a dependency talks to.
    pub fn of_dependency(name: &str) -> Option<Self> {
        match name {
            "pg"
            | "psycopg"
            | "psycopg2"
            | "psycopg2-binary"
            | "asyncpg"
            | "pg8000"
            | "postgrex"
            | "tokio-postgres"
            | "postgres"
            | "github.com/jackc/pgx"
            | "github.com/lib/pq"
            | "RPostgres"
            | "pg-promise" => Some(Self::Postgresql),
            "mysql"
            | "mysql2"
            | "mysqlclient"
            | "pymysql"
            | "aiomysql"
            | "myxql"
            | "github.com/go-sql-driver/mysql" => Some(Self::Mariadb),
            "redis" | "ioredis" | "redix" | "aioredis" | "github.com/redis/go-redis" | "predis/predis" => {
                Some(Self::Redis)
            }
            _ => None,
        }
    }

    /// For people.
    pub fn words(self) -> &'static str {
        match self {
            Self::Postgresql => "PostgreSQL",
            Self::Mariadb => "MariaDB",
            Self::Redis => "Redis",
        }
    }

    /// The service's name in the spec.
    pub fn name(self) -> &'static str {
        match self {
            Self::Postgresql => "database",
            Self::Mariadb => "mariadb",
            Self::Redis => "store",
        }
    }

    /// Its packages in a suite.
    pub fn packages(self) -> Vec<String> {
        let name = match self {
            Self::Postgresql => "postgresql",
            Self::Mariadb => "mariadb-server",
            Self::Redis => "redis-server",
        };
        vec![name.to_owned()]
    }

    /// The address of this service for a variable that held one of its kind.
    pub fn address(self, written: &str) -> Option<String> {
        if Self::of_address(written) != Some(self) {
            return None;
        }
        let (scheme, _) = written.split_once("://")?;
        Some(match self {
            Self::Postgresql => format!("{scheme}://postgres@127.0.0.1:5432/postgres"),
            Self::Mariadb => format!("{scheme}://crew@127.0.0.1:3306/crew"),
            Self::Redis => format!("{scheme}://127.0.0.1:6379/0"),
        })
    }

    /// The block.
    pub fn block(self, suite: &str) -> String {
        match self {
            Self::Postgresql => {
                let version = match suite {
                    "bullseye" => "13",
                    "bookworm" => "15",
                    _ => "17",
                };
                POSTGRESQL.replace("{version}", version)
            }
            Self::Mariadb => MARIADB.to_owned(),
            Self::Redis => REDIS.to_owned(),
        }
    }
}

const POSTGRESQL: &str = r#"
[[folders]]                      # the database survives whatever becomes of the workspace
mode   = "kept"
name   = "database"
inside = "/srv/database"
owner  = "postgres"

[[steps]]
name    = "make the database's files"
at      = "first-start"
account = "postgres"
creates = "/srv/database/files/PG_VERSION"
run     = "/usr/lib/postgresql/{version}/bin/initdb --auth=trust --no-instructions --encoding=UTF8 /srv/database/files"

[services.database]              # user postgres, without a password, at 127.0.0.1:5432
account = "postgres"
run     = ["/usr/lib/postgresql/{version}/bin/postgres", "-D", "/srv/database/files", "-k", "/tmp"]
ready   = { command = ["/usr/lib/postgresql/{version}/bin/pg_isready", "-q", "-h", "127.0.0.1"] }
after   = ["make the database's files"]
"#;

const MARIADB: &str = r#"
[[folders]]                      # the database survives whatever becomes of the workspace
mode   = "kept"
name   = "mariadb"
inside = "/srv/mariadb"
owner  = "mysql"

[[steps]]
name    = "make MariaDB's files"
at      = "first-start"
account = "mysql"
creates = "/srv/mariadb/files/mysql"
run     = "mariadb-install-db --no-defaults --auth-root-authentication-method=normal --datadir=/srv/mariadb/files > /dev/null && printf 'CREATE DATABASE IF NOT EXISTS crew;\\nDELETE FROM mysql.global_priv WHERE LENGTH(User) = 0;\\nFLUSH PRIVILEGES;\\nCREATE USER IF NOT EXISTS crew;\\nGRANT ALL ON *.* TO crew;\\n' > /srv/mariadb/begin.sql"

[services.mariadb]               # user crew, without a password, database crew, at 127.0.0.1:3306
account = "mysql"
run     = ["/usr/sbin/mariadbd", "--no-defaults", "--datadir=/srv/mariadb/files", "--socket=/tmp/database.sock", "--pid-file=/tmp/database.pid", "--bind-address=127.0.0.1", "--init-file=/srv/mariadb/begin.sql"]
ready   = { port = 3306 }
after   = ["make MariaDB's files"]
"#;

const REDIS: &str = r#"
[[folders]]                      # what is stored survives whatever becomes of the workspace
mode   = "kept"
name   = "store"
inside = "/srv/store"
owner  = "redis"

[services.store]                 # at 127.0.0.1:6379
account = "redis"
run     = ["redis-server", "--dir", "/srv/store", "--bind", "127.0.0.1", "--daemonize", "no"]
ready   = { port = 6379 }
"#;
