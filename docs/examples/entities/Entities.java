import java.lang.annotation.*;
import java.lang.reflect.Field;
import java.time.*;
import java.util.*;
import java.util.stream.*;

/** Prints the mapped classes of a program as the JSON document that evensprout survey --entities reads. */
public class Entities {
    @Retention(RetentionPolicy.RUNTIME) @interface Stored { String value(); }

    @Retention(RetentionPolicy.RUNTIME) @interface In {
        String column() default "";
        int length() default 0;
        boolean key() default false;
        boolean nullable() default false;
        Class<?> refers() default Void.class;
    }

    enum Status { active, dormant, barred }

    @Stored("piers") static class Pier {
        @In(key = true) long id;
        @In(length = 3) String code;
        @In(column = "closed_on", nullable = true) LocalDate closedOn;
    }

    @Stored("vessels") static class Vessel {
        @In(key = true) long id;
        @In(length = 60) String name;
        @In(column = "home_pier_id", refers = Pier.class) long homePier;
    }

    @Stored("passengers") static class Passenger {
        @In(key = true) long id;
        @In(length = 10) Status status;
    }

    // What follows is all that a program needs: it asks the classes themselves.
    static final Map<Class<?>, String> TYPES = Map.of(int.class, "integer", long.class, "integer", double.class, "real",
        String.class, "text", boolean.class, "boolean", LocalDate.class, "date", Instant.class, "timestamp");

    static String field(Field f) {
        In c = f.getAnnotation(In.class);
        Map<String, Object> m = new LinkedHashMap<>();
        m.put("name", quote(f.getName()));
        if (!c.column().isEmpty()) m.put("column", quote(c.column()));
        m.put("type", quote(f.getType().isEnum() ? "text" : TYPES.getOrDefault(f.getType(), "any")));
        if (c.length() > 0) m.put("length", c.length());
        m.put("nullable", c.nullable());
        if (c.key()) m.put("key", true);
        if (c.refers() != Void.class) m.put("refers", quote(c.refers().getSimpleName()));
        if (f.getType().isEnum()) m.put("constants", list(Stream.of(f.getType().getEnumConstants()), o -> quote(o.toString())));
        return "{" + m.entrySet().stream().map(e -> quote(e.getKey()) + ": " + e.getValue()).collect(Collectors.joining(", ")) + "}";
    }

    static String entity(Class<?> c) {
        return "{\"name\": " + quote(c.getSimpleName()) + ", \"table\": " + quote(c.getAnnotation(Stored.class).value())
            + ", \"fields\": " + list(Stream.of(c.getDeclaredFields()), Entities::field) + "}";
    }

    static <T> String list(Stream<T> of, java.util.function.Function<T, String> each) {
        return of.map(each).collect(Collectors.joining(", ", "[", "]"));
    }

    static String quote(String s) { return "\"" + s + "\""; }

    public static void main(String[] args) {
        System.out.println("{\"edition\": 1, \"entities\": "
            + list(Stream.of(Pier.class, Vessel.class, Passenger.class), Entities::entity) + "}");
    }
}
