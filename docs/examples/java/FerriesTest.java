// Run by: evensprout during --schema schema.sql -- mvn -q verify
//
// JDBC_URL, JDBC_DATABASE_USERNAME and JDBC_DATABASE_PASSWORD are the database.

import static org.junit.jupiter.api.Assertions.assertEquals;
import static org.junit.jupiter.api.Assertions.assertTrue;

import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import org.junit.jupiter.api.Test;

class FerriesTest {
    private static Connection connect() throws SQLException {
        return DriverManager.getConnection(System.getenv("JDBC_URL"), System.getenv("JDBC_DATABASE_USERNAME"), System.getenv("JDBC_DATABASE_PASSWORD"));
    }

    private static long number(Connection db, String sql) throws SQLException {
        try (var statement = db.createStatement(); var row = statement.executeQuery(sql)) {
            row.next();
            return row.getLong(1);
        }
    }

    @Test
    void theRowsAreTheSameEveryTime() throws SQLException {
        try (var db = connect()) {
            assertEquals(18754, number(db, "SELECT count(*) FROM tickets"));
        }
    }

    @Test
    void aCancelledBookingGivesItsSeatsBack() throws SQLException {
        try (var db = connect()) {
            db.setAutoCommit(false); // rolled back with the connection
            long before = number(db, "SELECT sum(seats_left) FROM sailings");
            try (var statement = db.createStatement()) {
                statement.executeUpdate("UPDATE sailings SET seats_left = seats_left + (SELECT count(*) FROM tickets WHERE booking_id = 1)"
                        + " WHERE id = (SELECT sailing_id FROM bookings WHERE id = 1)");
            }
            assertTrue(number(db, "SELECT sum(seats_left) FROM sailings") > before);
            db.rollback();
        }
    }
}
