import java.lang.reflect.Method;
import java.lang.reflect.Modifier;
import java.util.Collections;
import java.util.Set;
import java.util.TreeSet;
import java.util.jar.JarEntry;
import java.util.jar.JarFile;

/**
 * Prints a line for each class of the jars that Tomcat may make an object of by its configuration: its name, the simple names of all that
 * it is (superclasses and interfaces), and what its setters of one simple value set.
 */
public class Setters {
    public static void main(String[] jars) throws Exception {
        for (String jar : jars) {
            try (JarFile file = new JarFile(jar)) {
                for (JarEntry entry : Collections.list(file.entries())) {
                    String name = entry.getName();
                    if (name.matches("org/apache/(catalina|coyote|tomcat/util/(net|http))/[^$]*[.]class")) {
                        print(name.replace('/', '.').substring(0, name.length() - 6));
                    }
                }
            }
        }
    }

    private static void print(String name) {
        Set<String> kinds = new TreeSet<>();
        Set<String> setters = new TreeSet<>();
        try {
            Class<?> type = Class.forName(name, false, Setters.class.getClassLoader());
            if (!Modifier.isPublic(type.getModifiers()) || Modifier.isAbstract(type.getModifiers())) {
                return;
            }
            for (Class<?> above = type; above != null; above = above.getSuperclass()) {
                add(above, kinds);
            }
            for (Method method : type.getMethods()) {
                String called = method.getName();
                if (called.matches("set.+") && method.getParameterCount() == 1 && isSimple(method.getParameterTypes()[0])) {
                    setters.add(called.substring(3));
                }
            }
        } catch (LinkageError | ClassNotFoundException missing) {
            return; // it needs a library that is not at hand, and so cannot be configured here
        }
        System.out.println(name + "\t" + String.join(" ", kinds) + "\t" + String.join(" ", setters));
    }

    private static boolean isSimple(Class<?> type) {
        return type.isPrimitive() || type == String.class || type == Boolean.class;
    }

    private static void add(Class<?> type, Set<String> kinds) {
        kinds.add(type.getSimpleName());
        for (Class<?> above : type.getInterfaces()) {
            add(above, kinds);
        }
    }
}
